#!/usr/bin/env python3
"""Measures which safety copies Dredger tells, and of which documents, against the truth of disk images.

    bench/copies.py [--program build/dredger] [--misses] FOLDER_OR_TRUTH...

Reads every NAME.truth.json that names documents of copies (`safety_copy_of`) with its NAME.img.zst (or NAME.img). A line an image:
copies that are there, told as copies, with the right document; files that are none and are called so.
"""

import argparse
import json
import pathlib
import subprocess
import sys
import tempfile

HERE = pathlib.Path(__file__).resolve().parent


def measure(program, truth_file, scratch, misses):
    truth = json.loads(truth_file.read_text())
    stem = truth_file.name.removesuffix(".truth.json")
    image, catalog = scratch / f"{stem}.img", scratch / f"{stem}.dredge"
    packed = truth_file.with_name(f"{stem}.img.zst")
    if packed.exists():
        subprocess.run(["zstd", "-dqf", "--long=27", "--sparse", packed, "-o", image], check=True)
    else:
        image.symlink_to(truth_file.with_name(f"{stem}.img").resolve())
    subprocess.run([program, "scan", image, "-c", catalog], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    listed = subprocess.run([program, "list", catalog, "--state", "live,deleted,trashed,lost", "--as", "jsonl"], check=True,
                            capture_output=True, text=True).stdout
    told = {}
    for line in listed.splitlines():
        row = json.loads(line)
        if not row["folder"] and (row["path"] not in told or row["role"]):
            told[row["path"]] = row
    copies = [f for f in truth.get("files", []) if "safety_copy_of" in f and not f["directory"] and
              (f["safety_copy_of"] or "never saved" in (f.get("note") or ""))]
    paths = {f["path"] for f in copies}
    found = [f for f in copies if f["path"] in told]
    known = [f for f in found if told[f["path"]]["role"]]
    right = [f for f in known if told[f["path"]]["of"] == f["safety_copy_of"]]
    wrong = [r for p, r in told.items() if r["role"] and p not in paths]
    if misses:
        for f in copies:
            row = told.get(f["path"], {})
            if f not in right:
                print(f"  {f['path']}: {row.get('role')} of {row.get('of')}, not of {f['safety_copy_of']}", file=sys.stderr)
        for row in wrong:
            print(f"  {row['path']} is called {row['role']} of {row['of']}", file=sys.stderr)
    roles = {}
    for f in known:
        role = told[f["path"]]["role"]
        roles[role] = roles.get(role, 0) + 1
    print(f"{stem:<24} {len(copies):>6} {len(known):>6} {len(right):>6} {len(wrong):>6}  "
          + ", ".join(f"{role} {count}" for role, count in sorted(roles.items())))


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--program", default=str(HERE.parent / "build/dredger"))
    parser.add_argument("--misses", action="store_true", help="name what is missed or wrong")
    parser.add_argument("truth", nargs="+", type=pathlib.Path)
    options = parser.parse_args()
    print(f"{'image':<24} {'copies':>6} {'told':>6} {'right':>6} {'wrong':>6}  roles")
    with tempfile.TemporaryDirectory() as scratch:
        for given in options.truth:
            for truth_file in sorted(given.glob("*.truth.json")) if given.is_dir() else [given]:
                if '"safety_copy_of"' in truth_file.read_text():
                    measure(options.program, truth_file, pathlib.Path(scratch), options.misses)


if __name__ == "__main__":
    main()
