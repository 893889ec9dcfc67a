#!/usr/bin/env python3
"""Makes an image without file systems for measuring the deep scan.

    bench/make_surface.py IMAGE GIB

In turns of 64 MiB: half bytes that can't be packed, a quarter zeros, a quarter the files of the demo medium, each at a
4 KiB boundary, one behind the other. The same sizes give the same bytes, but for those that can't be packed.
"""

import argparse
import json
import os
import pathlib
import subprocess
import tempfile

DEMO = pathlib.Path(__file__).resolve().parent.parent / "demo"
MIB = 1 << 20
CLUSTER = 4096


def demo_files():
    """The contents of the demo medium's files that are whole on it."""
    with tempfile.TemporaryDirectory() as scratch:
        image = pathlib.Path(scratch) / "demo.img"
        subprocess.run(["zstd", "-dqf", "--long=27", DEMO / "ringing-station-drive.img.zst", "-o", image], check=True)
        medium = image.read_bytes()
    files = []
    for file in json.loads((DEMO / "ringing-station-drive.truth.json").read_text())["files"]:
        whole = not file["directory"] and file["extents"] and file["intact_bytes"] == file["size"] > 4 * CLUSTER
        if whole:
            content = b"".join(medium[at:at + length] for at, length in file["extents"])[:file["size"]]
            files.append(content + bytes(-len(content) % CLUSTER))
    return files


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("image", type=pathlib.Path)
    parser.add_argument("gib", type=int)
    words = parser.parse_args()
    files = demo_files()
    batch, room, n = b"", 16 * MIB, 0
    while len(batch) + len(files[n % len(files)]) <= room:
        batch += files[n % len(files)]
        n += 1
    batch += bytes(room - len(batch))
    with open(words.image, "wb") as out:
        for _ in range(words.gib * 16):
            out.write(os.urandom(32 * MIB))
            out.write(bytes(16 * MIB))
            out.write(batch)


if __name__ == "__main__":
    main()
