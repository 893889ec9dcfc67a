#!/usr/bin/env python3
"""What comes back of a damaged mail store, and how quick a large one is read.

    bench/mail_stores.py damage STORE.pst      a Unicode PST, or an offline store of the newest form
    bench/mail_stores.py large STORE.pst [GIB] a Unicode PST, its messages repeated until it has so many GiB (1)

Damage: the header, roots, every page, every tenth page, every tenth piece of 512 bytes lost; either half alone. Printed
are the files (messages and attachments) that come back byte for byte, of those of the whole store; those that are called
sound and are not among them; and the time.
"""
import collections
import csv
import hashlib
import json
import pathlib
import re
import struct
import subprocess
import sys
import tempfile
import time
import zlib

DREDGER = pathlib.Path(__file__).parent.parent / 'build' / 'dredger'
STATES = ('--state', 'live,trashed,deleted,lost')


def crc(data):
    return zlib.crc32(bytes(data), 0xFFFFFFFF) ^ 0xFFFFFFFF


def permutation():
    """How stores scramble bytes, as src/stores/pst/encoding.cpp has it."""
    source = (pathlib.Path(__file__).parent.parent / 'src/stores/pst/encoding.cpp').read_text()
    return bytes(int(n) for n in re.findall(r'\d+', source[source.index('mpbbR = {') + 9:].split('}')[0]))


SCRAMBLE = permutation()
PLAIN = bytes(SCRAMBLE.index(n) for n in range(256))


def renamed(block, copy):
    """The ids of messages in it end in @zlsvr22; each copy gets one of its own."""
    plain = bytes(block).translate(PLAIN)
    other = plain.replace('@zlsvr22'.encode('utf-16-le'), f'@z{copy:06}'.encode('utf-16-le'))
    return block if other == plain else bytearray(other.translate(SCRAMBLE))


def signature(ib, bid):
    mixed = (ib ^ bid) & 0xFFFFFFFF
    return (mixed >> 16 ^ mixed) & 0xFFFF


def wiped(data, at, length):
    return data[:at] + bytes(min(length, len(data) - at)) + data[at + length:]


def tree_pages(data, page):
    trailer = page - (16 if page == 512 else 24)
    for at in range(0, len(data) - page, 512):
        kind = data[at + trailer]
        if kind in (0x80, 0x81) and data[at + trailer + 1] == kind and \
                struct.unpack_from('<I', data, at + trailer + 4)[0] == crc(data[at:at + trailer]):
            yield at


def scanned(data, name, folder):
    store, catalog, out = folder / name, folder / f'{name}.dredge', folder / f'{name}.out'
    store.write_bytes(data)
    began = time.monotonic()
    ran = subprocess.run([DREDGER, 'scan', '-q', store, '-c', catalog], capture_output=True, text=True)
    took = time.monotonic() - began
    if ran.returncode:
        return collections.Counter(), collections.Counter(), took
    subprocess.run([DREDGER, 'restore', '-q', catalog, *STATES, '--to', out], capture_output=True)
    rows = subprocess.run([DREDGER, 'list', catalog, '--as', 'jsonl', *STATES], capture_output=True, text=True).stdout
    bands = {row['id']: row['band'] for row in map(json.loads, rows.splitlines())}
    sums, sound = collections.Counter(), collections.Counter()
    if (out / 'manifest.csv').exists():
        for row in csv.DictReader((out / 'manifest.csv').open()):
            if row['sha256']:
                sums[row['sha256']] += 1
                sound[row['sha256']] += bands.get(int(row['id'])) == 'sound'
    return sums, sound, took


def damage(path):
    data = path.read_bytes()
    page = 4096 if struct.unpack_from('<H', data, 10)[0] >= 36 else 512
    nodes, blocks = struct.unpack_from('<Q', data, 224)[0], struct.unpack_from('<Q', data, 240)[0]
    cases = {
        'header': wiped(data, 0, 1024),
        'root of the nodes': wiped(data, nodes, page),
        'root of the blocks': wiped(data, blocks, page),
        'header and roots': wiped(wiped(wiped(data, 0, 1024), nodes, page), blocks, page),
        'first half alone': data[:len(data) // 2],
        'second half alone': data[len(data) // 2 // 512 * 512:],
    }
    pages = list(tree_pages(data, page))
    for name, lost in (('every page', pages), ('every tenth page', pages[::10]),
                       ('every tenth 512 bytes', range(0x4400, len(data) - 512, 5120))):
        left = bytearray(data)
        for at in lost:
            length = 512 if name.endswith('bytes') else page
            left[at:at + length] = bytes(length)
        cases[name] = bytes(left)
    with tempfile.TemporaryDirectory() as folder:
        whole, _, took = scanned(data, 'whole.pst', pathlib.Path(folder))
        print(f'whole store: {sum(whole.values())} files, {took:.1f} s')
        print(f'{"LOST":<24}{"BACK":>8}{"FLATTERED":>11}{"SECONDS":>9}')
        for number, (name, left) in enumerate(cases.items()):
            sums, sound, took = scanned(left, f'{number}.pst', pathlib.Path(folder))
            back = sum((sums & whole).values())
            flattered = sum((sound - whole).values())
            print(f'{name:<24}{back:>8}{flattered:>11}{took:>9.1f}')


class Growing:
    """Repeats the messages of a Unicode PST, each time under other ids."""

    def __init__(self, data):
        self.data, self.nodes, self.blocks = data, [], {}
        self.walk(struct.unpack_from('<Q', data, 224)[0], lambda e: self.nodes.append(struct.unpack_from('<QQQI', e)))
        self.walk(struct.unpack_from('<Q', data, 240)[0],
                  lambda e: self.blocks.__setitem__(struct.unpack_from('<Q', e)[0] & ~1, struct.unpack_from('<QH', e, 8)))

    def walk(self, ib, take):
        page = self.data[ib:ib + 512]
        for n in range(page[488]):
            entry = page[n * page[490]:(n + 1) * page[490]]
            take(entry) if page[491] == 0 else self.walk(struct.unpack_from('<Q', entry, 16)[0], take)

    def grow(self, out, size):
        out.write(self.data)
        step = (max(self.blocks) // 0x10000 + 1) * 0x10000
        nodes = {node[0]: node for node in self.nodes}
        places = {bid: (bid, *place) for bid, place in self.blocks.items()}
        highest = max(nodes) >> 5
        for copy in range(1, 1 << 16):
            if out.tell() >= size:
                break
            moved = lambda bid: bid + copy * step if bid & ~1 else bid
            for bid, (ib, cb) in self.blocks.items():
                block = bytearray(self.data[ib:ib + cb])
                if not any(block):  # wiped before
                    continue
                if bid & 2:
                    entry, start = (8, 8) if block[0] == 1 else (24 if block[1] == 0 else 16, 8)
                    for n in range(struct.unpack_from('<H', block, 2)[0]):
                        at = start + n * entry
                        for child in ((at,) if block[0] == 1 else (at + 8, at + 16) if block[1] == 0 else (at + 8,)):
                            struct.pack_into('<Q', block, child, moved(struct.unpack_from('<Q', block, child)[0]))
                else:
                    block = renamed(block, copy)
                self.put(out, moved(bid), block, places)
            for nid, data, sub, parent in self.nodes:
                if nid & 31 == 4:
                    other = ((nid >> 5) + copy * (highest + 1)) << 5 | 4
                    nodes[other] = (other, moved(data), moved(sub), parent)
        trees = []
        for kind, entries, form in ((0x81, [nodes[n] for n in sorted(nodes)], '<QQQII'),
                                    (0x80, [places[b] for b in sorted(places)], '<QQHHI')):
            trees.append(self.tree(out, kind, [struct.pack(form, *entry, *((0,) if kind == 0x81 else (2, 0)))
                                               for entry in entries]))
        end = out.tell()
        header = bytearray(self.data[:1024])
        struct.pack_into('<QQ', header, 216, *trees[0])
        struct.pack_into('<QQ', header, 232, *trees[1])
        struct.pack_into('<Q', header, 184, end)
        out.seek(0)
        out.write(header)

    @staticmethod
    def put(out, bid, block, places):
        ib, space = out.tell(), (len(block) + 16 + 63) // 64 * 64
        trailer = struct.pack('<HHIQ', len(block), signature(ib, bid), crc(block), bid)
        out.write(bytes(block) + bytes(space - 16 - len(block)) + trailer)
        places[bid] = (bid, ib, len(block))

    @staticmethod
    def tree(out, kind, entries, bid=1 << 40):
        level = 0
        while True:
            out.write(bytes(-out.tell() % 512))
            size = len(entries[0])
            above = []
            for first in range(0, len(entries), 488 // size):
                part = entries[first:first + 488 // size]
                ib, bid = out.tell(), bid + 4
                page = b''.join(part).ljust(488, b'\0') + struct.pack('<BBBBI', len(part), 488 // size, size, level, 0)
                out.write(page + struct.pack('<BBHIQ', kind, kind, signature(ib, bid), crc(page), bid))
                above.append(struct.pack('<QQQ', struct.unpack_from('<Q', part[0])[0], bid, ib))
            if len(above) == 1:
                return bid, ib
            entries, level = above, level + 1


def large(path, gib):
    with tempfile.TemporaryDirectory() as folder:
        store, catalog = pathlib.Path(folder) / 'large.pst', pathlib.Path(folder) / 'large.dredge'
        with store.open('wb') as out:
            Growing(path.read_bytes()).grow(out, int(gib * (1 << 30)))
        began = time.monotonic()
        store.read_bytes()
        plain = time.monotonic() - began
        ran = subprocess.run(['/usr/bin/time', '-f', '%e %M', DREDGER, 'scan', store, '-c', catalog], capture_output=True,
                             text=True)
        seconds, memory = ran.stderr.split()[-2:]
        print(ran.stdout)
        print(f'{store.stat().st_size / (1 << 30):.2f} GiB: {seconds} s, {int(memory) >> 10} MiB; a plain read {plain:.1f} s')


if __name__ == '__main__':
    if len(sys.argv) > 2 and sys.argv[1] == 'damage':
        damage(pathlib.Path(sys.argv[2]))
    elif len(sys.argv) > 2 and sys.argv[1] == 'large':
        large(pathlib.Path(sys.argv[2]), float(sys.argv[3]) if len(sys.argv) > 3 else 1)
    else:
        sys.exit(__doc__)
