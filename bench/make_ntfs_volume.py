#!/usr/bin/env python3
"""Makes a large NTFS volume with the Linux NTFS driver in user space, to measure a quick scan on.

    bench/make_ntfs_volume.py IMAGE RECORDS

Half of the files are deleted again; every fourth has clusters of its own, the others stand in their records. The image is
sparse. A million records take some ten minutes. Needs ntfs-3g and fuse.
"""

import os
import pathlib
import subprocess
import sys
import tempfile

PER_FOLDER = 500


def main():
    image, records = pathlib.Path(sys.argv[1]), int(sys.argv[2])
    with open(image, "wb") as f:
        f.truncate(max(256 << 20, records * 4096))
    subprocess.run(["mkntfs", "-q", "-F", "-c", "1024", "-L", "LARGE", image], check=True, stderr=subprocess.DEVNULL)
    long, short = b"ring SK%06d guillemot ledge 4, wind 5, sea 3\r\n" * 20, b"ring SK%06d kittiwake ledge 9\r\n"
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run(["ntfs-3g", "-o", "big_writes,noatime", image, folder], check=True)
        try:
            for n in range(records):
                place = f"{folder}/Ringing season {n // PER_FOLDER:05d}"
                if n % PER_FOLDER == 0:
                    os.mkdir(place)
                descriptor = os.open(f"{place}/Ring series SK{n:07d}.csv", os.O_CREAT | os.O_WRONLY)
                os.write(descriptor, (long % ((n,) * 20)) if n % 4 == 0 else short % n)
                os.close(descriptor)
            for n in range(1, records, 2):
                os.unlink(f"{folder}/Ringing season {n // PER_FOLDER:05d}/Ring series SK{n:07d}.csv")
        finally:
            subprocess.run(["umount", folder], check=True)


if __name__ == "__main__":
    main()
