#!/usr/bin/env python3
"""Makes bench/card-100k.img.zst: a FAT32 card on which the real vfat driver wrote 100,000 files and deleted 60,000.

    DREDGER_KERNEL_DIR=FOLDER bench/make_card.py
"""

import pathlib
import subprocess
import sys
import tempfile

HERE = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests/fixtures"))
from real_driver import Guest, pack  # noqa: E402

with tempfile.TemporaryDirectory() as scratch:
    scratch = pathlib.Path(scratch)
    image = scratch / "card.img"
    with open(image, "wb") as f:
        f.truncate(640 << 20)
    subprocess.run(["mkfs.vfat", "-F", "32", "-s", "8", "-n", "SEASONS", "-i", "5ea81d64", image], check=True, stdout=subprocess.DEVNULL)
    program = scratch / "many_files"
    subprocess.run(["gcc", "-O1", "-static", "-o", program, HERE / "many_files.c"], check=True)
    print(Guest(image).run("mount -t vfat -o utf8,tz=UTC /dev/vda /mnt\nmany_files /mnt 100000\numount /mnt\n",
                           programs=[program], seconds=3000))
    pack(image, HERE / "card-100k.img.zst")
