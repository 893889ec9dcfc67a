#!/usr/bin/env python3
"""Lays real files down on a surface without a file system, and measures what the deep scan finds of them.

    bench/real_files.py [--lay whole|pieces|two|three|turns|shuffled|overwritten] [--place 512] [--seed 1] [--limit N]
                        [--per-format N] [--misses] FOLDER ...

The files, each content once, are those of the folders: test files of other programs' source packages, wallpapers, fonts,
office documents, whatever was written by others. They lie in an order that the seed decides, each at a place of the
surface; behind each its sector goes on with zeros, as drivers leave it, and up to the next place stand remains of others.

    whole        every file in one piece
    pieces       most in two pieces, some in three, with other files between
    two, three   every second file in so many pieces, with other files and pieces between
    turns        two of a kind by turns, in runs of constant or changing length, as programs that write at the same time
    shuffled     every second file in two or three pieces, of which a later one lies in front
    overwritten  of each file a part is foreign: its head, middle or tail

A line a format, by extension: files laid, those that the program knows by their name (`known`), those found byte for byte
(`exact`), those with an extension of the same format (`named`); and of finds: called sound (`sound`), of these not the
bytes of any file (`flattered`), and those that begin where no file does (`false`). Below it, the files of known formats that
are not text by the number of their pieces.
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


def written(out, remains, chance, place, content):
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


def cut(content, count, chance):
    """The pieces that an allocator makes of it: whole places, the last one the rest."""
    places = len(content) // 4096
    cuts = sorted(chance.sample(range(1, places), min(places - 1, count - 1))) if places > 2 else []
    ends = [c * 4096 for c in cuts] + [len(content)]
    return [content[a:b] for a, b in zip([0] + ends, ends)]


def runs(content, chance):
    """The runs in which a program's data reaches the medium while another one writes, too."""
    most = chance.choice((1, 2, 4, 16, 64))
    lengths, left = [], len(content)
    while left > 0:
        lengths.append(min(left, 4096 * (most if chance.random() < 0.7 else chance.randint(1, most))))
        left -= lengths[-1]
    ends = [sum(lengths[:n]) for n in range(1, len(lengths) + 1)]
    return [content[a:b] for a, b in zip([0] + ends, ends)]


def pieces_of(content, how, chance):
    """In content order."""
    if how == "pieces":
        return cut(content, chance.choice((2, 2, 2, 3)), chance)
    if how in ("two", "three", "shuffled") and chance.random() < 0.5:
        return cut(content, {"two": 2, "three": 3, "shuffled": chance.choice((2, 3))}[how], chance)
    return [content]


def by_turns(files, chance):
    """Pairs of one extension, as far as there are."""
    kinds = collections.defaultdict(list)
    for path in files:
        kinds[extension(path)].append(path)
    pairs = [tuple(paths[n:n + 2]) for paths in kinds.values() for n in range(0, len(paths), 2)]
    chance.shuffle(pairs)
    return pairs


def put(entry, pieces, *where):
    """The next of a file's pieces at the next place."""
    piece = pieces.pop(0)
    entry["extents"].append([written(*where, piece), len(piece)])


def lay_turns(files, remains, place, out, chance):
    truth = []
    for pair in by_turns(files, chance):
        entries = [entry_of(path) for path in pair]
        truth.extend(entries)
        waiting = [runs(path.read_bytes(), chance) for path in pair]
        while any(waiting):
            for entry, rest in zip(entries, waiting):
                if rest:
                    put(entry, rest, out, remains, chance, place)
    return truth


def entry_of(path):
    return {"path": str(path), "size": path.stat().st_size, "extents": [], "is_whole": True, "spoilt": ""}


def lay_shuffled(files, remains, place, out, chance):
    truth = []
    waiting = []
    for path in files:
        entry = entry_of(path)
        truth.append(entry)
        pieces = pieces_of(path.read_bytes(), "shuffled", chance)
        entry["extents"] = [None] * len(pieces)
        order = list(range(len(pieces)))
        while len(order) > 1 and order == sorted(order):
            chance.shuffle(order)
        waiting.append((entry, pieces, order))
        if len(waiting) == 4 or path == files[-1]:
            while waiting:
                owner, parts, left = waiting[0]
                n = left.pop(0)
                owner["extents"][n] = [written(out, remains, chance, place, parts[n]), len(parts[n])]
                waiting = waiting[1:] + (waiting[:1] if left else [])
    return truth


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
        if how in ("turns", "shuffled"):
            truth = {"turns": lay_turns, "shuffled": lay_shuffled}[how](files, remains, place, out, chance)
            out.write(bytes(1 << 16))
            return truth
        waiting = []  # pieces that lie behind what comes next
        for path in files:
            content = path.read_bytes()
            entry = entry_of(path)
            truth.append(entry)
            if how == "overwritten":
                content, entry["spoilt"] = spoilt(content, chance.choice(remains), chance)
                entry["is_whole"] = False
            pieces = pieces_of(content, how, chance)
            put(entry, pieces, out, remains, chance, place)
            still = []
            for owner, rest in waiting:
                if how in ("two", "three") and chance.random() < 0.4:
                    still.append((owner, rest))
                    continue
                put(owner, rest, out, remains, chance, place)
                if rest:
                    still.append((owner, rest))
            waiting = still + ([(entry, pieces)] if pieces else [])
        while waiting:
            owner, rest = waiting.pop(0)
            put(owner, rest, out, remains, chance, place)
            if rest:
                waiting.append((owner, rest))
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


def some_of_each(files, count, program, chance):
    """At most so many of each format that is not text, and long enough to be cut."""
    known, of_text = formats_of(program)
    kinds = collections.defaultdict(list)
    for path in files:
        if (ext := extension(path)) in known and ext not in of_text and path.stat().st_size > 3 * 4096:
            kinds[known[ext]].append(path)
    return [path for paths in kinds.values() for path in chance.sample(paths, min(count, len(paths)))]


def formats_of(program):
    """The format of each extension that the program knows; the extensions of those whose contents are text."""
    known = {}
    of_text = {"txt", "csv", "xml", "html", "htm", "json", "svg", "yaml", "yml", "tex", "ps", "eps", "dat", "log", "md"}
    rows = subprocess.run([program, "kinds", "--as", "jsonl"], check=True, capture_output=True).stdout
    for row in map(json.loads, rows.splitlines()):
        for one in row["extensions"]:
            known.setdefault(one, row["format"])
    return known, of_text


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
    parser.add_argument("--lay", choices=("whole", "pieces", "two", "three", "turns", "shuffled", "overwritten"),
                        default="whole")
    parser.add_argument("--place", type=int, default=4096)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--limit", type=int)
    parser.add_argument("--per-format", type=int, help="only formats that are not text, and so many files of each")
    parser.add_argument("--option", action="append", default=[], help="of dredger scan")
    parser.add_argument("--misses", action="store_true")
    parser.add_argument("--every-offset", action="store_true")
    parser.add_argument("--keep", type=pathlib.Path, help="leave surface, truth and catalog here")
    words = parser.parse_args()
    files = collected(words.folders)
    if words.limit:
        files = random.Random(words.seed).sample(files, min(words.limit, len(files)))
    if words.per_format:
        files = some_of_each(files, words.per_format, words.program, random.Random(words.seed))
    known, of_text = formats_of(words.program)
    with tempfile.TemporaryDirectory() as folder:
        scratch = words.keep or pathlib.Path(folder)
        scratch.mkdir(exist_ok=True, parents=True)
        for old in scratch.glob("finds.dredge*"):
            old.unlink()
        image = scratch / "surface.img"
        truth = lay(files, image, words.lay, words.place, words.seed)
        (scratch / "truth.json").write_text(json.dumps(truth))
        options = words.option + (["--every-offset"] if words.every_offset else [])
        finds = scanned(words.program, image, scratch, options)

    starts = collections.defaultdict(list)
    for find in finds:
        starts[find["extents"][0][0]].append(find)
    table = collections.defaultdict(collections.Counter)
    begins = set()
    exact_finds = set()
    by_pieces = collections.defaultdict(collections.Counter)
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
        if known_as and ext not in of_text:
            pieces = min(len(want), 4)
            for group in (known_as, "all"):
                by_pieces[group][pieces, "laid"] += 1
                by_pieces[group][pieces, "exact"] += bool(right)
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
    print(f"\n{'by pieces':12}" + "".join(f"{c:>12}" for c in ("one", "two", "three", "more")))
    for group, row in sorted(by_pieces.items(), key=lambda r: (r[0] == "all", r[0])):
        cells = [f"{row[n, 'exact']} of {row[n, 'laid']}" if row[n, "laid"] else "" for n in (1, 2, 3, 4)]
        print(f"{group[:11]:12}" + "".join(f"{c:>12}" for c in cells))
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
