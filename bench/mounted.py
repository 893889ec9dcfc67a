#!/usr/bin/env python3
"""How quick the finds are as a folder, beside what FUSE costs in any case.

    bench/mounted.py [FILES]     of a volume with so many small files (100000), and of one large file (512 MiB)

Printed are: the time of `ls -lR`; reading the large file through the mount, as a ratio to reading it through a plain
pass-through file system (bindfs, where it is installed); eight readers at once for a minute; the memory that it took.
Caches are dropped between, where that is allowed.
"""
import hashlib
import os
import pathlib
import shutil
import subprocess
import sys
import tempfile
import threading
import time

DREDGER = pathlib.Path(__file__).parent.parent / 'build' / 'dredger'
LARGE = 512 << 20
LIVE = ('--state', 'live', '--housekeeping')


def run(*words):
    return subprocess.run([str(w) for w in words], check=True, stdout=subprocess.PIPE, stderr=subprocess.PIPE)


def drop_caches():
    try:
        os.sync()
        pathlib.Path('/proc/sys/vm/drop_caches').write_text('3')
    except OSError:
        pass


def make_volume(image, source, size):
    with open(image, 'wb') as file:
        file.truncate(size)
    run('mke2fs', '-q', '-t', 'ext4', '-N', '200000', '-d', source, image)


class Mounted:
    def __init__(self, image, folder):
        catalog = image.with_suffix('.dredge')
        run(DREDGER, 'scan', image, '-c', catalog, '-q')
        self.folder = folder
        folder.mkdir()
        begun = time.monotonic()
        self.process = subprocess.Popen([str(w) for w in (DREDGER, 'mount', catalog, folder, *LIVE)],
                                        stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        line = self.process.stdout.readline()
        if b'mounted at' not in line:
            sys.exit(f'can\'t be mounted here: {line.decode()}')
        self.took = time.monotonic() - begun

    def memory(self):
        for line in pathlib.Path(f'/proc/{self.process.pid}/status').read_text().splitlines():
            if line.startswith('VmHWM'):
                return int(line.split()[1]) / 1024
        return 0

    def end(self):
        self.process.terminate()
        self.process.wait()


def read(path):
    """Seconds, and the SHA-256 of it."""
    digest = hashlib.sha256()
    begun = time.monotonic()
    with open(path, 'rb', buffering=0) as file:
        while data := file.read(1 << 20):
            digest.update(data)
    return time.monotonic() - begun, digest.hexdigest()


def seconds_to_read(path):
    begun = time.monotonic()
    run('dd', f'if={path}', 'of=/dev/null', 'bs=1M', 'status=none')
    return time.monotonic() - begun


def many(folder, files):
    source = folder / 'source'
    for n in range(files):
        place = source / f'{n // 2500:03}' / f'{n // 100 % 25:02}'
        if n % 100 == 0:
            place.mkdir(parents=True)
        (place / f'nest {n:06}.txt').write_text(f'ring {n}\n')
    image = folder / 'many.img'
    make_volume(image, source, (files * 6 << 10) + (256 << 20))
    shutil.rmtree(source)
    mounted = Mounted(image, folder / 'many')
    times = []
    for _ in range(3):
        drop_caches()
        begun = time.monotonic()
        listed = run('ls', '-lR', mounted.folder).stdout.count(b'nest ')
        times.append(time.monotonic() - begun)
    print(f'mounted {listed} files in {mounted.took:.2f} s; ls -lR of them: '
          f'{", ".join(f"{t:.2f}" for t in times)} s; memory {mounted.memory():.0f} MiB')
    mounted.end()
    image.unlink()


def large(folder):
    source = folder / 'source'
    source.mkdir()
    block = os.urandom(1 << 20)
    with open(source / 'film.mp4', 'wb') as file:
        for n in range(LARGE >> 20):
            file.write(n.to_bytes(8, 'big') + block[8:])
    image = folder / 'large.img'
    make_volume(image, source, LARGE + (128 << 20))
    mounted = Mounted(image, folder / 'large')
    film, original = mounted.folder / 'film.mp4', source / 'film.mp4'
    through = folder / 'through'
    through.mkdir()
    passing = shutil.which('bindfs') is not None
    if passing:
        run('bindfs', '-r', source, through)
    ratios = []
    for _ in range(5):
        drop_caches()
        ours = seconds_to_read(film)
        drop_caches()
        plain = seconds_to_read((through if passing else source) / 'film.mp4')
        ratios.append(plain / ours)
    what = 'a pass-through' if passing else 'a plain read (bindfs is not installed)'
    print(f'reading {LARGE >> 20} MiB: {", ".join(f"{r:.2f}" for r in ratios)} of the speed of {what}')

    expected = read(original)[1]
    wrong = []

    def reader():
        end = time.monotonic() + 60
        while time.monotonic() < end:
            try:
                if read(film)[1] != expected:
                    wrong.append('other bytes')
            except OSError as error:
                wrong.append(str(error))

    readers = [threading.Thread(target=reader) for _ in range(8)]
    for one in readers:
        one.start()
    for one in readers:
        one.join()
    print(f'8 readers for a minute: {len(wrong)} errors; memory {mounted.memory():.0f} MiB')
    mounted.end()
    if passing:
        run('fusermount3', '-u', through)


def main():
    with tempfile.TemporaryDirectory() as name:
        many(pathlib.Path(name), int(sys.argv[1]) if len(sys.argv) > 1 else 100000)
        large(pathlib.Path(name))


main()
