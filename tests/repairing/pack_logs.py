#!/usr/bin/env python3
"""Packs made-up ringing logs in each way: pack_logs.py FOLDER"""
import bz2, gzip, io, lzma, random, subprocess, sys, tarfile, zipfile

folder = sys.argv[1]
random.seed(7)


def log(rows):
    birds = ["puffin", "storm petrel", "razorbill", "guillemot", "fulmar"]
    return "".join(
        f"2026-{random.randint(4, 9):02}-{random.randint(1, 28):02},{random.choice(birds)},"
        f"{random.randrange(16**8):08X},{random.randint(200, 900)} g\n" for _ in range(rows)).encode()


packed = io.BytesIO()
with tarfile.open(fileobj=packed, mode="w", format=tarfile.GNU_FORMAT) as archive:
    for n in range(40):
        content = log(random.randint(20, 400))
        member = tarfile.TarInfo("ringing logs/" + ("a long name " * (10 if n % 9 == 0 else 1)) + f"{n}.csv")
        member.size = len(content)
        archive.addfile(member, io.BytesIO(content))
tar = packed.getvalue()
text = log(12000)
for name, content in {"logs.tar": tar, "log.csv": text}.items():
    for ending, made in {"": content, ".gz": gzip.compress(content), ".bz2": bz2.compress(content, 1),
                         ".xz": lzma.compress(content)}.items():
        open(f"{folder}/{name}{ending}", "wb").write(made)
    subprocess.run(["zstd", "-q", f"{folder}/{name}"], check=True)
with zipfile.ZipFile(f"{folder}/logs.zip", "w", zipfile.ZIP_DEFLATED) as archive:
    archive.writestr("log.csv", text)
    archive.writestr("plan.txt", "Count the burrows of the north plot.\n" * 9)
half = len(text) // 2
open(f"{folder}/members.csv.gz", "wb").write(gzip.compress(text[:half]) + gzip.compress(text[half:]))
