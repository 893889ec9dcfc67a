#!/usr/bin/env python3
"""Makes the demo's second medium, the stick of the warden's Mac: HFS+ written by the Linux driver, with a trash.

    demo/make_mac_stick.py STORE

STORE is a .DS_Store that tells where the trash's things were: tests/fixtures/make_finder_store.cjs writes one. For what else is
needed see tests/fixtures/make_mac_media.py.
"""

import math
import pathlib
import random
import struct
import subprocess
import sys
import tempfile
import zlib

HERE = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests/fixtures"))
from make_mac_media import MIB, MacGuest, empty_hfsplus, remove  # noqa: E402
from real_driver import Ledger, Season, pack  # noqa: E402

chance = random.Random(1126)
START, LENGTH = MIB, 10 * MIB
NAME = "wardens-mac-stick"
MOUNT = "mount -t hfsplus -o force,uid=501,gid=20 /dev/vda1 /mnt\n"


def png(width, height, turn):
    """A sea, a sky and a rock."""
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        for x in range(width):
            rock = abs(x - width / 2 - turn) < (y - height * 0.35) * 0.7
            grain = chance.randrange(9)
            if rock:
                rows += bytes([92 + grain, 84 + grain, 78 + grain])
            elif y > height * 0.7:
                rows += bytes([30, 70 + grain + int(20 * math.sin((x + turn) / 9)), 110 + grain])
            else:
                rows += bytes([150 + y // 3, 180 + y // 4, 220])
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))  # noqa: E731
    return (b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)) +
            chunk(b"IDAT", zlib.compress(bytes(rows), 9)) + chunk(b"IEND", b""))


def wav(seconds, pitch):
    samples = b"".join(struct.pack("<h", int(9000 * math.sin(n * pitch / 8000 * 6.28) * math.sin(n / 900)))
                       for n in range(int(seconds * 8000)))
    return b"RIFF" + struct.pack("<I", 36 + len(samples)) + b"WAVEfmt " + struct.pack("<IHHIIHH", 16, 1, 1, 8000, 16000, 2, 16) + \
        b"data" + struct.pack("<I", len(samples)) + samples


def csv(rows):
    lines = ["ring,species,ledge,weight"] + [f"SK{441200 + chance.randrange(900)},{chance.choice(['puffin', 'fulmar', 'guillemot'])},"
                                            f"{chance.randrange(1, 9)},{chance.randrange(380, 980)}" for _ in range(rows)]
    return ("\n".join(lines) + "\n").encode()


def diary(day):
    words = "wind tern mist ledge burrow ring night boat chick storm petrel count light rain kelp seal".split()
    lines = [f"Day {day}"] + [" ".join(chance.choice(words) for _ in range(11)).capitalize() + "." for _ in range(30 + day)]
    return ("\n".join(lines) + "\n").encode()


def main():
    with tempfile.TemporaryDirectory() as folder:
        scratch = pathlib.Path(folder)
        volume, image = scratch / "volume.img", scratch / f"{NAME}.img"
        empty_hfsplus(volume, LENGTH, "Wardens Mac")
        with open(image, "wb") as out:
            out.truncate(START + LENGTH + MIB)
            out.seek(START)
            out.write(volume.read_bytes())
        subprocess.run(["sfdisk", "-q", image], text=True, check=True,
                       input=f"label: gpt\nstart={START // 512}, size={LENGTH // 512}, type=48465300-0000-11AA-AA11-00306543ECAC\n")
        s = Season(scratch / "stick")
        for n in range(1, 7):
            s.file(f"Sketches/Ledge {n}.png", png(240, 160, 9 * n - 30), f"2026-05-{n:02d}T18:00:00")
        for n in range(1, 6):
            s.file(f"Diary/2025/Day {n}.txt", diary(n), f"2025-06-{n:02d}T21:00:00")
            s.file(f"Diary/2026/Day {n}.txt", diary(n + 5), f"2026-06-{n:02d}T21:00:00")
        s.file("Talk at the harbour/Übersicht der Kolonien.csv", csv(180), "2026-03-02T10:00:00")
        s.file("Talk at the harbour/Growl of a puffin.wav", wav(6, 190), "2026-03-02T10:30:00")
        s.file("Crossing/Tide table.csv", csv(60), "2026-04-11T07:00:00")
        s.file("Crossing/Packing list.txt", b"rings\npliers\nscales\nbags\ntea\n", "2026-04-11T07:05:00")
        guest, ledger = MacGuest(image), Ledger(image)
        guest.run(MOUNT + s.script() + "\numount /mnt\n", s.folder, clock="2026-06-10T09:00:00")
        ledger.located(s.folder)
        trash = Season(scratch / "trash")
        trash.file(".Trashes/501/.DS_Store", pathlib.Path(sys.argv[1]).read_bytes(), "2026-06-20T09:00:00")
        thrown = {"Crossing/Tide table.csv": "Tide table.csv", "Sketches/Ledge 4.png": "Ledge 4.png"}
        moves = "".join(f'mv "/mnt/{path}" "/mnt/.Trashes/501/{item}"\n' for path, item in thrown.items())
        gone = ["Diary/2025", "Sketches/Ledge 2.png", "Sketches/Ledge 5.png", "Talk at the harbour"]
        guest.run(MOUNT + trash.script() + "\n" + moves + remove(gone) + "umount /mnt\n", trash.folder, clock="2026-06-20T09:00:00")
        for path in gone:
            ledger.deleted(path)
        for path, item in thrown.items():
            ledger.moved(path, f".Trashes/501/{item}")
            ledger.trashed(f".Trashes/501/{item}", path, "2026-06-20T09:00:00")
        ledger.dump(HERE / f"{NAME}.truth.json", filesystem="hfsplus", scenario="a stick of a Mac: folders and files deleted, a trash",
                    volumes=[{"offset": START, "length": LENGTH, "filesystem": "hfsplus", "label": "Wardens Mac", "table": "gpt"}])
        pack(image, HERE / f"{NAME}.img.zst")


if __name__ == "__main__":
    main()
