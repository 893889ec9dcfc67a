#!/usr/bin/env python3
"""Measures `dredger repair` against sets of damaged files with their undamaged originals, by programs of other hands.

    bench/repair.py SET [--program build/dredger] [--keep DIR] [-v]

A SET holds folders (zip, office, jpeg, video ...), each with a truth.json: for each damaged file what was done to it, its
original, a reference where one helps, and what can be had from it. Needs ffmpeg, djpeg (libjpeg-turbo-progs); soffice and
qpdf where they are there.
"""
import argparse
import csv
import json
import pathlib
import shutil
import subprocess
import tempfile
import zipfile
import zlib


def repaired(program, folder, entry, to):
    """The result of one file, and its row of the table."""
    command = [program, "repair", folder / entry["file"], "--to", to]
    if entry.get("reference"):
        command += ["--reference", folder / entry["reference"]]
    subprocess.run(command, stdout=subprocess.DEVNULL, check=False)
    row = next(csv.DictReader(open(to / "repairs.csv", newline="")), None)
    result = to / row["result"] if row and row["result"] else None
    return result, row or {"outcome": "none", "what": ""}


def judge_zip(entry, result):
    """Entries that can be had and came back byte for byte with their names; those that came and never were there."""
    wanted = {(e["name"], e["size"], int(e["crc32"], 16)) for e in entry["recoverable"]}
    known = {e["name"] for key in ("recoverable", "partial", "lost") for e in entry[key]}
    got, foreign = set(), 0
    try:
        with zipfile.ZipFile(result) as archive:
            for info in archive.infolist():
                try:
                    data = archive.read(info)
                except Exception:
                    continue
                got.add((info.filename, len(data), zlib.crc32(data)))
                foreign += info.filename not in known
    except Exception as error:
        return 0.0, f"unreadable: {error}"
    missing = {n for n, _, _ in wanted - got}
    return 1 - len(missing) / max(1, len(wanted)), (f"missing {sorted(missing)} " if missing else "") + (
        f"not in the truth: {foreign}" if foreign else "")


def opens_in_office(result):
    if not shutil.which("soffice"):
        return None
    with tempfile.TemporaryDirectory() as out:
        subprocess.run(["soffice", "--headless", f"-env:UserInstallation=file://{out}/profile", "--convert-to", "pdf",
                        "--outdir", out, result], capture_output=True, timeout=180, check=False)
        return any(pathlib.Path(out).glob("*.pdf"))


def pixels(path):
    done = subprocess.run(["djpeg", "-pnm", path], capture_output=True, check=False)
    data = done.stdout
    if not data.startswith(b"P"):
        return None
    fields = data.split(None, 4)
    width, height = int(fields[1]), int(fields[2])
    body = data[len(data) - width * height * (3 if data[:2] == b"P6" else 1):]
    stride = len(body) // height if height else 0
    return width, height, [body[i * stride:(i + 1) * stride] for i in range(height)]


def judge_jpeg(folder, entry, result):
    """The share of rows that are those of the original, but for what the eye does not see: 4 levels in the mean."""
    original = pixels(folder / entry["original"])
    found = pixels(result) if result else None
    plain = pixels(folder / entry["file"])

    def right(picture):
        if picture is None or picture[0] != original[0]:
            return 0
        return sum(a == b or sum(abs(x - y) for x, y in zip(a, b)) <= 4 * len(b) for a, b in zip(picture[2], original[2]))

    def exact(picture):
        return sum(a == b for a, b in zip(picture[2], original[2])) if picture else 0
    share, before = right(found) / original[1], right(plain) / original[1]
    return share, f"exact {exact(found) / original[1]:.2f}, left as it is {before:.2f}" + (" WORSE" if share < before else "")


def packets(path):
    done = subprocess.run(["ffprobe", "-v", "error", "-show_packets", "-show_data_hash", "md5", "-show_entries",
                           "packet=codec_type,data_hash", "-of", "json", path], capture_output=True, check=False)
    try:
        return [(p["codec_type"], p["data_hash"]) for p in json.loads(done.stdout).get("packets", [])]
    except Exception:
        return []


def judge_video(folder, entry, result):
    """The share of the packets whose bytes are intact that came back, by their hashes."""
    from collections import Counter
    original = Counter(packets(folder / entry["original"]))
    found = Counter(packets(result)) if result else Counter()
    total = sum(s["packets_intact"] for s in entry["streams"].values())
    came = sum((original & found).values())
    note = ""
    if result:
        done = subprocess.run(["ffmpeg", "-v", "error", "-i", result, "-f", "null", "-"], capture_output=True, check=False)
        errors = done.stderr.decode(errors="replace").strip().splitlines()
        if errors or done.returncode:
            note = f"decoder: {len(errors)} errors, {errors[0] if errors else ''}"
    foreign = sum((found - original).values())
    return min(1.0, came / max(1, total)), f"{came} of {total}" + (f", foreign {foreign}" if foreign else "") + (
        ", " + note if note else "")


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("set", type=pathlib.Path)
    parser.add_argument("--program", type=pathlib.Path, default=pathlib.Path(__file__).parent.parent / "build/dredger")
    parser.add_argument("--keep", type=pathlib.Path, help="leave the results there")
    parser.add_argument("--only", help="the folder of one family")
    parser.add_argument("-v", action="store_true", help="print each file")
    arguments = parser.parse_args()
    for truth in sorted(arguments.set.glob("*/truth.json")):
        folder, shares, opened = truth.parent, [], []
        if arguments.only and folder.name != arguments.only:
            continue
        for entry in json.load(open(truth)):
            with tempfile.TemporaryDirectory() as scratch:
                to = arguments.keep / folder.name / entry["file"] if arguments.keep else pathlib.Path(scratch)
                shutil.rmtree(to, ignore_errors=True)
                to.mkdir(parents=True, exist_ok=True)
                result, row = repaired(arguments.program, folder, entry, to)
                if folder.name == "jpeg":
                    share, note = judge_jpeg(folder, entry, result)
                elif folder.name == "video":
                    share, note = judge_video(folder, entry, result)
                elif "recoverable" in entry:
                    share, note = judge_zip(entry, result) if result else (0.0, "no result")
                else:
                    share, note = (1.0 if result else 0.0), "not measured"
                if folder.name == "office" and result:
                    opens = opens_in_office(result)
                    if opens is not None:
                        opened.append(opens)
                        note += "" if opens else " does not open"
                shares.append(share)
                if arguments.v:
                    print(f"  {share:5.2f}  {entry['file']}  {row['outcome']:17} {entry['damage']}: {note}")
        line = f"{folder.name:8} {len(shares):3} files, mean share {sum(shares) / max(1, len(shares)):.3f}"
        print(line + (f", {sum(opened)} of {len(opened)} open" if opened else ""), flush=True)


if __name__ == "__main__":
    main()
