#!/usr/bin/env python3
"""Times Dredger on a card with 100,000 records, beside a plain read of the same image in the same run.

    bench/speed.py [--deep GIB | --restore | --copy GIB] [--program build/dredger] [--runs 5] [--json FILE] [--image IMAGE]

Prints medians: what a quick scan takes, how many bytes it reads, what `cat IMAGE > /dev/null` takes, and the ratio; peak
memory; and what listing everything takes. Another image, one of bench/make_ntfs_volume.py for instance, can be given. Both
read from memory, not from a disk: the image was unpacked just before.

With --deep, the deep scan of an image that bench/make_surface.py makes, or of the one that is given, instead: cached, and cold
where the caches can be dropped.

With --restore, restoring 10,000 small files and a sparse one of 8 GiB from an ext4 image beside `cp -a` of the same files
from the mounted image (as root, with loop devices). With --copy, an image of a good medium beside `dd` with the same
block size, with and without waiting for the drive.
"""

import argparse
import json
import pathlib
import random
import statistics
import subprocess
import sys
import tempfile
import time

HERE = pathlib.Path(__file__).resolve().parent


def timed(words):
    """Wall seconds and bytes read of one run."""
    script = '"$@" >/dev/null; code=$?; cat /proc/$$/io >&2; exit $code'
    started = time.monotonic()
    done = subprocess.run(["/bin/sh", "-c", script, "sh", *map(str, words)], capture_output=True, text=True)
    seconds = time.monotonic() - started
    if done.returncode != 0:
        raise RuntimeError(done.stderr)
    read = next(int(line.split()[1]) for line in done.stderr.splitlines() if line.startswith("rchar:"))
    return seconds, read


def deep(words):
    """Times the deep scan of an image that bench/make_surface.py makes, cached and, where the cache can be dropped, cold."""
    with tempfile.TemporaryDirectory(dir=words.scratch) as scratch:
        scratch = pathlib.Path(scratch)
        image = words.image or scratch / "surface.img"
        if not words.image:
            subprocess.run([HERE / "make_surface.py", image, str(words.deep)], check=True)
        size = image.stat().st_size

        def scan():
            for old in scratch.glob("deep.dredge*"):
                old.unlink()
            return timed([words.program, "scan", "--deep", image, "-c", scratch / "deep.dredge"])[0]

        def cold():
            subprocess.run(["sync"], check=True)
            pathlib.Path("/proc/sys/vm/drop_caches").write_text("3\n")

        figures = {"image_gib": size / 2**30}
        timed(["cat", image])
        figures["cached_read_seconds"] = statistics.median(timed(["cat", image])[0] for _ in range(words.runs))
        figures["cached_scan_seconds"] = statistics.median(scan() for _ in range(words.runs))
        # A drive's rate swings: each scan stands beside the plain read just before it.
        pairs = []
        try:
            for _ in range(words.runs):
                cold()
                read = timed(["cat", image])[0]
                cold()
                pairs.append((read, scan()))
        except OSError:
            pass
        if pairs:
            figures["cold_read_seconds"], figures["cold_scan_seconds"] = map(statistics.median, zip(*pairs))
            figures["cold_ratio"] = statistics.median(scanned / read for read, scanned in pairs)
        figures["scan_gib_a_second"] = figures["image_gib"] / figures["cached_scan_seconds"]
        peak = subprocess.run([sys.executable, "-c", "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, "
                               "stdout=subprocess.DEVNULL); print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)",
                               words.program, "scan", "--deep", image, "-c", scratch / "again.dredge"], check=True, capture_output=True, text=True)
        figures["scan_peak_mib"] = int(peak.stdout) / 1024
    print(f"deep scan of {figures['image_gib']:.1f} GiB, medians of {words.runs} runs")
    print(f"  plain read, cached  {figures['cached_read_seconds']:7.2f} s")
    print(f"  deep scan, cached   {figures['cached_scan_seconds']:7.2f} s   {figures['scan_gib_a_second']:.2f} GiB/s")
    if "cold_scan_seconds" in figures:
        print(f"  plain read, cold    {figures['cold_read_seconds']:7.2f} s")
        print(f"  deep scan, cold     {figures['cold_scan_seconds']:7.2f} s   "
              f"{figures['cold_ratio']:.2f} times the plain read (median of the pairs)")
    print(f"  peak memory         {figures['scan_peak_mib']:7.0f} MiB")
    return figures


def mounted(image, folder, options):
    subprocess.run(["mount", "-o", options, image, folder], check=True)


def restore(words):
    """Times restoring beside `cp -a`, small files and a large sparse one by themselves and together."""
    figures = {}
    with tempfile.TemporaryDirectory(dir=words.scratch) as scratch:
        scratch = pathlib.Path(scratch)
        image, folder = scratch / "station.img", scratch / "mounted"
        folder.mkdir()
        with open(image, "wb") as f:
            f.truncate(12 << 30)
        subprocess.run(["mkfs.ext4", "-q", "-F", image], check=True)
        mounted(image, folder, "loop")
        try:
            noise = random.Random(7)
            for n in range(10_000):
                place = folder / f"small/{n // 500:02}"
                place.mkdir(parents=True, exist_ok=True)
                (place / f"ring {n:05}.dat").write_bytes(noise.randbytes(500 + noise.randrange(15_000)))
            (folder / "large").mkdir()
            with open(folder / "large/camera.raw", "wb") as f:
                for piece in range(256):
                    f.seek(piece * (32 << 20))
                    f.write(noise.randbytes(1 << 20))
                f.truncate(8 << 30)
        finally:
            subprocess.run(["umount", folder], check=True)
        catalog = scratch / "station.dredge"
        subprocess.run([words.program, "scan", image, "-c", catalog], check=True, stdout=subprocess.DEVNULL)
        mounted(image, folder, "loop,ro")
        try:
            for what in ("small", "large", ""):
                restore = [words.program, "restore", catalog, "--state", "live", "--folder", what or "*"]
                commands = {"cp": ["cp", "-a", f"{folder}/{what}"],
                            "cp synced": ["sh", "-c", 'cp -a "$0" "$1" && sync -f "$1"', f"{folder}/{what}"],
                            "restore": [*restore, "--to"], "quick": [*restore, "--sums", "xxh128", "--to"]}
                seconds = {name: [] for name in commands}
                for turn in range(words.runs):
                    for name, command in commands.items():
                        # Into a new folder each time: where much was deleted a moment ago, ext4 makes files slowly.
                        subprocess.run(["sync"], check=True)
                        seconds[name].append(timed([*command, scratch / f"{what} {name} {turn}"])[0])
                figures[what or "both"] = {name: statistics.median(runs) for name, runs in seconds.items()}
        finally:
            subprocess.run(["umount", folder], check=True)
    names = {"small": "10,000 small files", "large": "8 GiB, 256 MiB of it stored", "both": "both together"}
    print(f"restoring beside cp -a, medians of {words.runs} runs")
    for what, seconds in figures.items():
        print(f"  {names[what]}: cp -a {seconds['cp']:.2f} s, waiting for the drive {seconds['cp synced']:.2f} s")
        for name, words_for_it in (("restore", "restore"), ("quick", "with --sums xxh128")):
            print(f"    {words_for_it:20} {seconds[name]:6.2f} s   {seconds['cp'] / seconds[name]:.2f} of cp -a, "
                  f"{seconds['cp synced'] / seconds[name]:.2f} of one that waits for the drive, as it does itself")
    return figures


def copy(words):
    """Times an image of a good medium beside `dd`."""
    with tempfile.TemporaryDirectory(dir=words.scratch) as scratch:
        scratch = pathlib.Path(scratch)
        source, target = scratch / "medium.img", scratch / "copy.img"
        noise = random.Random(5)
        with open(source, "wb") as f:
            for _ in range(words.copy * 64):
                f.write(noise.randbytes(16 << 20))
        commands = {"dd": ["dd", f"if={source}", f"of={target}", "bs=1M", "status=none"],
                    "dd, synced": ["dd", f"if={source}", f"of={target}", "bs=1M", "status=none", "conv=fdatasync"],
                    "image": [words.program, "image", source, target],
                    "image --no-hash": [words.program, "image", "--no-hash", source, target]}
        seconds = {name: [] for name in commands}
        for _ in range(words.runs):
            for name, command in commands.items():
                for old in scratch.glob("copy.img*"):
                    old.unlink()
                subprocess.run(["sync"], check=True)
                seconds[name].append(timed(command)[0])
        figures = {name: statistics.median(runs) for name, runs in seconds.items()}
    print(f"copying {words.copy} GiB in blocks of 1 MiB, medians of {words.runs} runs")
    for name, middle in figures.items():
        print(f"  {name:16} {middle:6.2f} s   {figures['dd'] / middle:.2f} of dd, {figures['dd, synced'] / middle:.2f} of dd synced")
    return figures


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--program", default=HERE.parent / "build/dredger")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--json", type=pathlib.Path)
    parser.add_argument("--image", type=pathlib.Path, help="measure this one instead")
    parser.add_argument("--deep", type=int, metavar="GIB", help="time the deep scan of an image of so many GiB")
    parser.add_argument("--restore", action="store_true", help="time restoring beside cp -a")
    parser.add_argument("--copy", type=int, metavar="GIB", help="time an image of so many GiB beside dd")
    parser.add_argument("--scratch", help="folder with room for that image")
    words = parser.parse_args()
    if words.deep or words.restore or words.copy:
        figures = deep(words) if words.deep else restore(words) if words.restore else copy(words)
        if words.json:
            words.json.write_text(json.dumps(figures, indent=1) + "\n")
        return
    with tempfile.TemporaryDirectory() as scratch:
        scratch = pathlib.Path(scratch)
        image = words.image or scratch / "card.img"
        if not words.image:
            subprocess.run(["zstd", "-dqf", "--long=27", "--no-sparse", HERE / "card-100k.img.zst", "-o", image], check=True)
        scans, plain, lists = [], [], []
        for _ in range(words.runs):
            for old in scratch.glob("card.dredge*"):
                old.unlink()
            catalog = scratch / "card.dredge"
            plain.append(timed(["cat", image]))
            scans.append(timed([words.program, "scan", image, "-c", catalog]))
            lists.append(timed([words.program, "list", catalog, "--as", "csv"]))
        peak = subprocess.run([sys.executable, "-c", "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, "
                               "stdout=subprocess.DEVNULL); print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)",
                               words.program, "scan", image, "-c", scratch / "again.dredge"], check=True, capture_output=True, text=True)
        memory = int(peak.stdout) / 1024
        size = image.stat().st_size
    middle = lambda runs: statistics.median(seconds for seconds, _ in runs)  # noqa: E731
    figures = {
        "image_mib": size / 2**20, "scan_seconds": middle(scans), "plain_read_seconds": middle(plain),
        "scan_to_plain_read": middle(scans) / middle(plain), "scan_read_mib": statistics.median(read for _, read in scans) / 2**20,
        "list_csv_seconds": middle(lists), "scan_peak_mib": memory,
    }
    print(f"{words.image or 'card with 100,000 records'}, {figures['image_mib']:.0f} MiB, medians of {words.runs} runs")
    print(f"  plain read of the image    {figures['plain_read_seconds']:6.2f} s")
    print(f"  quick scan                 {figures['scan_seconds']:6.2f} s   {figures['scan_to_plain_read']:.1f} times the plain read; "
          f"reads {figures['scan_read_mib']:.0f} MiB")
    print(f"  list of all finds, csv     {figures['list_csv_seconds']:6.2f} s")
    print(f"  peak memory of the scan    {figures['scan_peak_mib']:6.0f} MiB")
    if words.json:
        words.json.write_text(json.dumps(figures, indent=1) + "\n")


if __name__ == "__main__":
    main()
