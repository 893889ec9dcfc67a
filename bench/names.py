"""Where the bytes of a name stand on a medium, in the encodings of the file systems, and in which structure."""

import unicodedata

STRUCTURES = ((b"FILE", 1024, "an NTFS file record"), (b"INDX", 4096, "an NTFS index block"), (b"RSTR", 4096, "the NTFS log"),
              (b"RCRD", 4096, "the NTFS log"), (b"XD2B", 4096, "an XFS directory block"), (b"XD2D", 4096, "an XFS directory block"),
              (b"XDB3", 4096, "an XFS directory block"), (b"XDD3", 4096, "an XFS directory block"), (b"IN", 256, "an XFS inode"),
              (b"\xc0\x3b\x39\x98", 4096, "a journal block of ext"))
MOST = 50  # places of one name


def encodings(name):
    # FAT keeps long names in pieces of 5, 6 and 2 letters.
    yield from {name.encode(), unicodedata.normalize("NFD", name).encode(), name.encode("utf-16-le"),
                unicodedata.normalize("NFD", name).encode("utf-16-be")}
    if len(name) >= 5:
        yield name[:5].encode("utf-16-le")


def structure_at(image, at):
    for mark, size, words in STRUCTURES:
        start = at // size * size
        if image[start:start + len(mark)] == mark:
            return words
    return f"a block that begins {image[at // 4096 * 4096:at // 4096 * 4096 + 4].hex()}"


def structures_with(image, name, outside=()):
    """The structures in which the name stands; `outside` lists (offset, length) that are files' content, where it is no name."""
    found = set()
    for wanted in encodings(name):
        at = image.find(wanted)
        for _ in range(MOST):
            if at < 0:
                break
            if not any(start <= at < start + length for start, length in outside):
                found.add(structure_at(image, at))
            at = image.find(wanted, at + 1)
    return found
