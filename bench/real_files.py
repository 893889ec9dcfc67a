#!/usr/bin/env python3
"""Lays real files down on a surface without a file system, and measures what the deep scan finds of them.

    bench/real_files.py [--lay whole|pieces|overwritten] [--place 512] [--seed 1] [--limit N] [--misses] FOLDER ...

The files, each content once, are those of the folders: test files of other programs' source packages, wallpapers, fonts,
office documents, whatever was written by others. They lie in an order that the seed decides, each at a place of the
surface; behind each its sector goes on with zeros, as drivers leave it, and up to the next place stand remains of others.

    whole        every file in one piece
    pieces       most in two pieces, some in three, with other files between
    overwritten  of each file a part is foreign: its head, middle or tail

A line a format, by extension: files laid, those that the program knows by their name (`known`), those found byte for byte
(`exact`), those with an extension of the same format (`named`); and of finds: called sound (`sound`), of these not the
bytes of any file (`flattered`), and those that begin where no file does (`false`).
"""

import argparse
import bisect
import collections
import hashlib
import json
import pathlib
import random
import subprocess
import sys
import tempfile

SECTOR = 512
HERE = pathlib.Path(__file__).resolve().parent


def collected(folders):
    """Paths, each content once; the same whatever the order of the folders."""
    contents = {}
    for folder in folders:
        for path in sorted(p for p in folder.rglob("*") if p.is_file() and not p.is_symlink()):
            if path.stat().st_size >= 64:
                contents.setdefault(hashlib.sha256(path.read_bytes()).digest(), path)
    return [contents[digest] for digest in sorted(contents)]


def extension(path):
    suffixes = [s.lower() for s in pathlib.Path(path).suffixes]
    return "tar" + suffixes[-1] if suffixes[-2:-1] == [".tar"] else (suffixes or ["."])[-1][1:]


def written(out, content, remains, chance, place):
    """At the next place; returns where."""
    at = -(-out.tell() // place) * place
    gap = at - out.tell()
    if gap > 0:
        stuff = chance.choice(remains)
        start = chance.randrange(max(1, len(stuff) - gap))
        out.write(stuff[start:start + gap].ljust(gap, b"\0"))
    out.write(content)
    out.write(bytes(-len(content) % SECTOR))
    return at


def cut(content, chance):
    """The pieces that an allocator makes of it: whole places, the last one the rest."""
    places = len(content) // 4096
    cuts = sorted(chance.sample(range(1, places), min(places - 1, chance.choice((1, 1, 1, 2))))) if places > 2 else []
    ends = [c * 4096 for c in cuts] + [len(content)]
    return [content[a:b] for a, b in zip([0] + ends, ends)]


def spoilt(content, foreign, chance):
    """With a foreign part, of at least a sector: at its head, its middle, or its tail."""
    size = max(SECTOR, min(len(content) // 3, chance.choice((512, 4096, 32768))) // SECTOR * SECTOR)
    where = chance.choice(("head", "middle", "tail"))
    sectors = len(content) // SECTOR
    at = {"head": 0, "middle": sectors // 2 * SECTOR, "tail": max(0, (sectors - size // SECTOR) * SECTOR)}[where]
    other = (foreign * (size // max(1, len(foreign)) + 1))[:size]
    return content[:at] + other[:len(content) - at] + content[at + size:], where


def lay(files, image, how, place, seed):
    """The surface, and the truth: of each file its path, size and extents, and whether all of it stands."""
    chance = random.Random(seed)
    files = list(files)
    chance.shuffle(files)
    remains = [p.read_bytes()[4096:] for p in chance.sample(files, min(200, len(files)))]
    # Text that remains is text that is found, and rightly so.
    remains = [r for r in remains if len(r) > 4096 and r.count(0) > len(r) // 50] or [bytes(8192)]
    truth = []
    with open(image, "wb") as out:
        out.write(bytes(4096))
        waiting = []  # pieces that lie behind what comes next
        for path in files:
            content = path.read_bytes()
            entry = {"path": str(path), "size": len(content), "extents": [], "is_whole": True, "spoilt": ""}
            truth.append(entry)
            if how == "overwritten":
                content, entry["spoilt"] = spoilt(content, chance.choice(remains), chance)
                entry["is_whole"] = False
            pieces = cut(content, chance) if how == "pieces" else [content]
            entry["extents"].append([written(out, pieces[0], remains, chance, place), len(pieces[0])])
            still = []
            for owner, rest in waiting:
                owner["extents"].append([written(out, rest[0], remains, chance, place), len(rest[0])])
                if rest[1:]:
                    still.append((owner, rest[1:]))
            waiting = still + ([(entry, pieces[1:])] if pieces[1:] else [])
        while waiting:
            owner, rest = waiting.pop(0)
            owner["extents"].append([written(out, rest[0], remains, chance, place), len(rest[0])])
            if rest[1:]:
                waiting.append((owner, rest[1:]))
        out.write(bytes(1 << 16))
    return truth


def merged(extents):
    out = []
    for at, length in extents:
        if out and out[-1][0] + out[-1][1] == at:
            out[-1][1] += length
        else:
            out.append([at, length])
    return out


def laid_before(places, laid, find):
    """The file that begins last before the find does, or where it does."""
    n = bisect.bisect_right(places, find["extents"][0][0])
    return laid[places[n - 1]] if n else None


def formats_of(program):
    """The format of each extension that the program knows."""
    known = {}
    rows = subprocess.run([program, "kinds", "--as", "jsonl"], check=True, capture_output=True).stdout
    for row in map(json.loads, rows.splitlines()):
        for one in row["extensions"]:
            known.setdefault(one, row["format"])
    return known


def scanned(program, image, scratch, options):
    catalog = scratch / "finds.dredge"
    subprocess.run([program, "scan", "--deep", image, "-c", catalog, *options], check=True, stdout=subprocess.DEVNULL,
                   stderr=subprocess.DEVNULL)
    rows = subprocess.run([program, "list", catalog, "--as", "jsonl", "--extents", "--every-copy", "--origin", "signature"],
                          check=True, capture_output=True).stdout
    return [json.loads(row) for row in rows.splitlines()]


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folders", nargs="+", type=pathlib.Path)
    parser.add_argument("--program", default=HERE.parent / "build" / "dredger")
    parser.add_argument("--lay", choices=("whole", "pieces", "overwritten"), default="whole")
    parser.add_argument("--place", type=int, default=4096)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--limit", type=int)
    parser.add_argument("--misses", action="store_true")
    parser.add_argument("--every-offset", action="store_true")
    parser.add_argument("--keep", type=pathlib.Path, help="leave surface, truth and catalog here")
    words = parser.parse_args()
    files = collected(words.folders)
    if words.limit:
        files = random.Random(words.seed).sample(files, min(words.limit, len(files)))
    known = formats_of(words.program)
    with tempfile.TemporaryDirectory() as folder:
        scratch = words.keep or pathlib.Path(folder)
        scratch.mkdir(exist_ok=True, parents=True)
        for old in scratch.glob("finds.dredge*"):
            old.unlink()
        image = scratch / "surface.img"
        truth = lay(files, image, words.lay, words.place, words.seed)
        (scratch / "truth.json").write_text(json.dumps(truth))
        finds = scanned(words.program, image, scratch, ["--every-offset"] if words.every_offset else [])

    starts = collections.defaultdict(list)
    for find in finds:
        starts[find["extents"][0][0]].append(find)
    table = collections.defaultdict(collections.Counter)
    begins = set()
    exact_finds = set()
    misses = []
    for file in truth:
        ext = extension(file["path"])
        row = table[ext]
        row["laid"] += 1
        known_as = known.get(ext)
        row["known"] += known_as is not None
        begins.add(file["extents"][0][0])
        there = starts.get(file["extents"][0][0], [])
        want = merged(file["extents"])
        right = [f for f in there if merged(f["extents"]) == want and file["is_whole"]]
        exact_finds.update(f["id"] for f in right)
        same = [f for f in right or there if known_as is not None and known.get(extension(f["name"])) == known_as]
        row["exact"] += bool(right)
        row["named"] += bool(right) and bool(same)
        if file["is_whole"] and known_as and not (right and same):
            misses.append((ext, file, want, [(f["format"], f["band"], merged(f["extents"]), f["reasons"][:2]) for f in there]))
    flattered = []
    for find in finds:
        ext = extension(find["name"])
        row = table[ext]
        row["sound"] += find["band"] == "sound"
        if find["band"] == "sound" and find["id"] not in exact_finds:
            row["flattered"] += 1
            flattered.append(find)
        row["false"] += find["extents"][0][0] not in begins
    columns = ("laid", "known", "exact", "named", "sound", "flattered", "false")
    print(f"{'format':12}" + "".join(f"{c:>10}" for c in columns))
    for ext, row in sorted(table.items()):
        print(f"{ext[:11]:12}" + "".join(f"{row[c]:>10}" for c in columns))
    total = sum(table.values(), collections.Counter())
    print(f"{'all':12}" + "".join(f"{total[c]:>10}" for c in columns))
    fair = [e for e in table if table[e]["known"]]
    print(f"\nof {sum(table[e]['laid'] for e in fair)} whose names are known: {sum(table[e]['exact'] for e in fair)} exact, "
          f"{sum(table[e]['named'] for e in fair)} with the right extension")
    if words.misses:
        places = sorted(begins)
        laid = {f["extents"][0][0]: f for f in truth}
        for ext, file, want, there in sorted(misses, key=lambda m: (m[0], m[1]["path"])):
            print("missed", ext, file["path"], want, there)
        for find in sorted(flattered, key=lambda f: f["name"]):
            owner = laid_before(places, laid, find)
            print("flattered", find["format"], find["name"], merged(find["extents"]),
                  owner and (owner["path"], owner["size"], merged(owner["extents"]), owner["spoilt"]), find["reasons"][:2])
        for find in finds:
            if find["extents"][0][0] not in begins:
                owner = laid_before(places, laid, find)
                print("false", find["format"], find["band"], merged(find["extents"]),
                      owner and (owner["path"], find["extents"][0][0] - owner["extents"][0][0]))
    return 0


if __name__ == "__main__":
    sys.exit(main())
