#!/usr/bin/env python3
"""Measures what Dredger brings back against the exact truth of disk images.

    bench/accuracy.py [--deep] [--formats] [--program build/dredger] [--json FILE] [--misses] FOLDER_OR_TRUTH ...

Every NAME.truth.json with its NAME.img.zst (or NAME.img) is scanned and all that is not live is restored. A line a image:

    live       files of the truth that are still there
    files      that are not live (deleted, trashed, lost); those of `whole` have all their bytes still on the medium
    named      of `whole`: a find has the file's full path and size
    untold     of those of `whole` that have no name: their name's bytes stand nowhere on the medium but in contents
    exact      of `whole`: a find gives the file's bytes, with their SHA-256
    both       of `whole`: the same find has both, and the time of last change too
    overwritten, not sound   of the rest: no find with its path is called sound
    folders    that were deleted, found with their full path
    invented   finds that are none of the files that the truth knows
    flattered  finds that are called sound and don't give the bytes of any file of the truth

With --calibration, prospects against what comes back: by tens, the mean error and the Brier score, and how often `sound`
and `gone` are right. A find's actual share is 1 where its bytes are those of a file of the truth; else what it reads from
where the file had it and no whole file of the truth lies now, at most the share of the file that still stands; 0 where it is
a find of no file. src/ranking/weights.h is fitted by what --reasons prints.

With --deep, the deep scan; `twice` counts finds by content where another find begins, and finds by content that begin
nowhere where a file of the truth does are `invented`. With --formats, a table of the formats: files that are whole on
the medium, those of them that came back byte for byte, in the right format, and finds that are false.
"""

import argparse
import collections
import csv
import json
import mmap
import pathlib
import re
import shutil
import subprocess
import sys
import tempfile
import unicodedata

import calibration
import names

HERE = pathlib.Path(__file__).resolve().parent


def plain(path):
    return unicodedata.normalize("NFC", path).replace(":", ";")


def original(file):
    """The place of a trashed file before, without its drive; Windows' own way of writing it is taken too."""
    path = file.get("original_path")
    return {plain(re.sub(r"^[A-Za-z]:/", "", path.replace("\\", "/")))} if path else set()


def truths(places):
    for place in map(pathlib.Path, places):
        # Where no image lies beside it, or it lists no files, it is the truth of something else.
        yield from [t for t in sorted(place.rglob("*.truth.json")) if list(t.parent.glob(t.name[:-len("truth.json")] + "img*"))
                    and "files" in json.loads(t.read_text())] if place.is_dir() else [place]


def run(program, *words):
    done = subprocess.run([program, *map(str, words)], capture_output=True, text=True)
    if done.returncode not in (0, 1):
        raise RuntimeError(f"{' '.join(map(str, words))}: exit {done.returncode}: {done.stderr.strip()}")
    return done.stdout


def calibration_pairs(finds, known, sums, truth_sums):
    """What each find states, and what it gives of the file that it is a find of."""
    by_path, by_start = collections.defaultdict(list), collections.defaultdict(list)
    for f in known:
        for path in {plain(f["path"]), *original(f)}:
            by_path[path].append(f)
        if f["extents"]:
            by_start[f["extents"][0][0]].append(f)
    owners = calibration.Owners(known)
    pairs = []
    for c in finds:
        if c["origin"] == "signature":
            mine = by_start[c["extents"][0][0]] if c["extents"] else []
        else:
            mine = [f for f in by_path[plain(c["path"])] if f["state"] != "live"]
        exact = sums.get(c["id"]) in truth_sums or (c["size"] == 0 and any(f["size"] == 0 for f in mine))
        share = 1.0 if exact else max((calibration.share_of(c, f, owners) for f in mine), default=0.0)
        pairs.append(calibration.Pair(c, share, exact))
    return pairs


def measure(program, truth_file, scratch, deep, formats, pairs):
    truth = json.loads(truth_file.read_text())
    stem = truth_file.name.removesuffix(".truth.json")
    image = scratch / f"{stem}.img"
    packed = truth_file.with_name(f"{stem}.img.zst")
    if packed.exists():
        subprocess.run(["zstd", "-dqf", "--long=27", "--sparse", packed, "-o", image], check=True)
    else:
        shutil.copy(truth_file.with_name(f"{stem}.img"), image)
    catalog = scratch / f"{stem}.dredge"
    try:
        run(program, "scan", image, "-c", catalog, *(["--deep"] if deep else []))
    except RuntimeError as error:
        return {"image": stem, "error": str(error).splitlines()[-1]}, []
    finds = [json.loads(line) for line in run(program, "list", catalog, "--housekeeping", "--as", "jsonl", "--extents").splitlines()]
    target = scratch / "restored"
    if finds:
        run(program, "restore", catalog, "--housekeeping", "--prospect", "0..", "--to", target)
        with open(target / "manifest.csv", newline="", encoding="utf-8") as f:
            sums = {int(row["id"]): row["sha256"] for row in csv.DictReader(f)}
    else:
        sums = {}
    shutil.rmtree(target, ignore_errors=True)

    known = [f for f in truth["files"] if not f["directory"]]
    gone = [f for f in known if f["state"] != "live"]
    folders = [f for f in truth["files"] if f["directory"] and f["state"] != "live"]
    files = [c for c in finds if not c["folder"]]
    paths = {}
    for c in files:
        paths.setdefault(plain(c["path"]), []).append(c)
    by_sum = {}
    for c in files:
        by_sum.setdefault(sums.get(c["id"]), []).append(c)

    def finds_of(file):
        wanted = {plain(file["path"]), *original(file)}
        return [c for path in wanted for c in paths.get(path, []) if c["size"] == file["size"]]

    whole = [f for f in gone if f["intact_bytes"] == f["size"] or f.get("stored_intact")]
    rest = [f for f in gone if f not in whole]
    misses, named, exact, both, untold = [], 0, 0, 0, 0
    contents = [e for f in known for e in f["extents"] or []]
    with open(image, "rb") as raw:
        medium = mmap.mmap(raw.fileno(), 0, access=mmap.ACCESS_READ)
    for f in whole:
        mine = finds_of(f)
        right = [c for c in mine if sums.get(c["id"]) == f["sha256"] or f["size"] == 0]
        named += bool(mine)
        exact += bool(by_sum.get(f["sha256"]) or right)
        good = any((c["modified"] or "").rstrip("Z") == (f["modified"] or "").rstrip("Z") or f["modified"] is None for c in right)
        both += good
        told_in = set() if mine else names.structures_with(medium, pathlib.PurePosixPath(f["path"]).name.split(":")[0], contents)
        untold += not mine and not told_in
        if not good and not ("case" in f and by_sum.get(f["sha256"])):
            misses.append(f"whole but not brought back with name, bytes and time: {f['path']} "
                          f"(record_intact {f.get('record_intact')}, {len(f['extents'] or [])} pieces"
                          + ("" if mine else f"; its name stands in {', '.join(sorted(told_in)) or 'nothing'}") + ")")
    not_sound = 0
    for f in rest:
        flattered = [c for c in finds_of(f) if c["band"] == "sound" and sums.get(c["id"]) != f["sha256"]]
        not_sound += not flattered
        if flattered:
            misses.append(f"overwritten but called sound: {f['path']} ({f['intact_bytes']} of {f['size']} bytes stand)")
    truth_paths = {plain(f["path"]) for f in truth["files"]} | {path for f in truth["files"] for path in original(f)}
    truth_sums = {f["sha256"] for f in known}
    starts = {(f["extents"][0][0], f["size"]) for f in known if f["extents"]}
    # A lost first letter, for which the program puts a _, is not an invention.
    # Nor is the number of a folder whose name is lost.
    patterns = {plain(c["path"]): re.compile("/".join(".*" if part.startswith("(") else re.sub("^_", ".", re.escape(part))
                                                      for part in plain(c["path"]).split("/")), re.I)
                for c in finds if "/_" in "/" + c["path"] or c["path"].startswith("(")}
    for path, pattern in patterns.items():
        if any(pattern.fullmatch(known_path) for known_path in list(truth_paths)):
            truth_paths.add(path)
    places = {f["extents"][0][0] for f in known if f["extents"]} | {e["offset"] for e in truth.get("embedded", [])}
    by_content = [c for c in files if c["origin"] == "signature"]
    first = lambda c: c["extents"][0][0] if c["extents"] else None  # noqa: E731
    twice = [c for c in by_content if any(o is not c and first(o) == first(c) for o in files)]
    invented = [c for c in by_content if first(c) not in places and sums.get(c["id"]) not in truth_sums]
    invented += [c for c in finds if c["origin"] != "signature" and plain(c["path"]) not in truth_paths and sums.get(c["id"]) not in truth_sums
                and not (c["extents"] and (c["extents"][0][0], c["size"]) in starts)]
    flattered = [c for c in files if c["band"] == "sound" and sums.get(c["id"]) not in truth_sums and c["size"] > 0]
    misses += [f"invented: {c['path']}" for c in invented] + [f"flattered: {c['path']} {c['prospect']}" for c in flattered]
    misses += [f"listed twice: {c['path']}" for c in twice]
    for f in whole if deep else []:
        row = formats[f.get("format") or pathlib.PurePath(f["path"]).suffix.lower()[1:]]
        row["whole"] += 1
        row["exact"] += bool(by_sum.get(f["sha256"])) or f["size"] == 0
        row["right"] += any(c["format"] == (f.get("format") or c["format"]) for c in by_sum.get(f["sha256"], []))
    for c in invented:
        formats[c["format"]]["false"] += 1
    pairs += calibration_pairs(files, known, sums, truth_sums)
    found_folders = {plain(c["path"]) for c in finds if c["folder"]}
    return {"image": stem, "live": len(known) - len(gone), "files": len(gone), "whole": len(whole), "named": named, "untold": untold, "exact": exact, "both": both,
            "overwritten": len(rest), "not_sound": not_sound, "folders": len(folders),
            "folders_found": sum(bool({plain(f["path"]), *original(f)} & found_folders) for f in folders),
            "finds": len(files), "invented": len(invented), "flattered": len(flattered), "twice": len(twice),
            "traps": sum(first(c) in {t["offset"] for t in truth.get("traps", [])} for c in by_content)}, misses


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("places", nargs="*", default=[HERE.parent / "tests/fixtures/media", HERE.parent / "demo"])
    parser.add_argument("--program", default=HERE.parent / "build/dredger")
    parser.add_argument("--deep", action="store_true", help="search by content too")
    parser.add_argument("--formats", action="store_true", help="print a table of the formats (with --deep)")
    parser.add_argument("--calibration", action="store_true", help="compare prospects with what comes back, over all images")
    parser.add_argument("--reasons", action="store_true", help="with --calibration: by what the finds' reasons say, to fit the weights")
    parser.add_argument("--figure", type=pathlib.Path, help="with --calibration: draw it into this SVG file")
    parser.add_argument("--json", type=pathlib.Path, help="write the figures to this file too")
    parser.add_argument("--misses", action="store_true", help="say of every miss which file it is")
    words = parser.parse_args()
    print(f"{'image':<20} {'live':>5} {'files':>5} {'whole':>5} {'named':>5} {'untold':>6} {'exact':>5} {'both':>5} {'overwr.':>7} {'not sound':>9} "
          f"{'folders':>9} {'finds':>5} {'invented':>8} {'flattered':>9}" + (f" {'twice':>5} {'traps':>5}" if words.deep else ""))
    rows, pairs = [], []
    formats = collections.defaultdict(collections.Counter)
    for truth_file in truths(words.places):
        with tempfile.TemporaryDirectory() as scratch:
            row, misses = measure(str(words.program), truth_file, pathlib.Path(scratch), words.deep, formats, pairs)
        rows.append(row)
        if "error" in row:
            print(f"{row['image']:<20} {row['error']}")
            continue
        print(f"{row['image']:<20} {row['live']:>5} {row['files']:>5} {row['whole']:>5} {row['named']:>5} {row['untold']:>6} {row['exact']:>5} {row['both']:>5} "
              f"{row['overwritten']:>7} {row['not_sound']:>9} {row['folders_found']:>4}/{row['folders']:<4} {row['finds']:>5} "
              f"{row['invented']:>8} {row['flattered']:>9}" + (f" {row['twice']:>5} {row['traps']:>5}" if words.deep else ""))
        for miss in misses if words.misses else []:
            print("    " + miss)
    if words.deep and words.formats:
        print(f"\n{'format':<12} {'whole':>5} {'exact':>5} {'right format':>12} {'false':>5}")
        for name in sorted(formats):
            row = formats[name]
            print(f"{name:<12} {row['whole']:>5} {row['exact']:>5} {row['right']:>12} {row['false']:>5}")
    if words.calibration:
        calibration.print_table(pairs)
        if words.reasons:
            calibration.print_reasons(pairs)
        if words.figure:
            calibration.write_figure(pairs, words.figure)
    if words.json:
        words.json.write_text(json.dumps(rows, indent=1) + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
