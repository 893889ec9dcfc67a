"""How far stated prospects agree with what really comes back: a reliability table, its figure, and the errors that hurt."""

import bisect
import collections
import re


class Pair:
    """What a find states, and what it is worth."""

    def __init__(self, find, share, exact):
        self.stated, self.band, self.share, self.exact = find["prospect"], find["band"], share, exact
        self.key = (find["origin"], find["check"], " | ".join(re.sub(r"\d[\d.]*", "N", re.sub(r" by .*", " by ...", r))
                                                               for r in find["reasons"]))


class Owners:
    """Where files lie that are whole: what lies there is theirs, however alike the bytes are."""

    def __init__(self, known):
        self.pieces = sorted((place, place + length, id(f)) for f in known if f["size"] and f["intact_bytes"] == f["size"]
                             for place, length in f["extents"] or [] if place is not None)
        self.longest = max((end - start for start, end, _ in self.pieces), default=0)

    def taken(self, start, end, file):
        """The bytes of [start, end) that belong to another file than this."""
        total, at = 0, bisect.bisect_left(self.pieces, (start - self.longest, 0, 0))
        while at < len(self.pieces) and self.pieces[at][0] < end:
            first, last, owner = self.pieces[at]
            total += max(0, min(last, end) - max(first, start)) if owner != id(file) else 0
            at += 1
        return min(total, end - start)


def share_of(find, file, owners):
    """The share of a truth file's bytes that a find gives back right, 0 to 1."""
    size = file["size"]
    if size == 0:
        return 1.0
    if not file["extents"] or not find["extents"]:
        return 0.0
    # Where the find reads the content's bytes from: right where the file had them, too.
    pieces, at = [], 0
    for place, length in file["extents"]:
        pieces.append((at, at + length, place))
        at += length
    agreed, at = 0, 0
    for place, length, *_ in find["extents"]:
        # A word where nothing is stored: zeros by definition, or nothing known.
        place = -1 if isinstance(place, str) else place
        for first, last, truth_place in pieces:
            low, high = max(at, first), min(at + length, last, size)
            same = place < 0 if truth_place is None else place >= 0 and place - at == truth_place - first
            if same and low < high:
                agreed += high - low - (owners.taken(place + low - at, place + high - at, file) if place >= 0 else 0)
        at += length
    return min(agreed, size, file["intact_bytes"]) / size


def tenth(pairs, low):
    return [p for p in pairs if low <= p.stated < low + 10 or (low == 90 and p.stated == 100)]


def mean(numbers):
    numbers = list(numbers)
    return sum(numbers) / max(1, len(numbers))


def print_table(pairs):
    print(f"\n{'stated':<10} {'finds':>6} {'mean stated':>11} {'mean actual':>11}")
    for low in range(0, 100, 10):
        group = tenth(pairs, low)
        if group:
            print(f"{low} to {low + 9 if low < 90 else 100}".ljust(10) + f" {len(group):>6} {mean(p.stated for p in group):>11.1f} "
                  f"{mean(100 * p.share for p in group):>11.1f}")
    sound = [p for p in pairs if p.band == "sound"]
    gone = [p for p in pairs if p.band == "gone"]
    print(f"\n{len(pairs)} finds: mean error of the prospect {mean(abs(p.stated - 100 * p.share) for p in pairs):.1f} points, "
          f"Brier score {mean((p.stated / 100 - p.share) ** 2 for p in pairs):.4f}")
    print(f"sound: {len(sound)}, of these byte for byte {100 * mean(p.exact for p in sound):.1f} %")
    print(f"gone:  {len(gone)}, of these with less than 5 % to be had {100 * mean(p.share < 0.05 for p in gone):.1f} %")


def print_reasons(pairs):
    """What finds with the same reasons state and are worth, the most finds first."""
    groups = collections.defaultdict(list)
    for pair in pairs:
        groups[pair.key].append(pair)
    print(f"\n{'finds':>5} {'stated':>6} {'actual':>6}  origin, check: reasons")
    for (origin, check, reasons), group in sorted(groups.items(), key=lambda g: -len(g[1])):
        print(f"{len(group):>5} {mean(p.stated for p in group):>6.1f} {mean(100 * p.share for p in group):>6.1f}  {origin}, {check}: {reasons}")


def write_figure(pairs, path):
    """The reliability diagram as SVG: stated against actual share, circles that grow with their number of finds."""
    side, margin = 480, 64
    across = lambda share: margin + share * side  # noqa: E731
    down = lambda share: margin + side - share * side  # noqa: E731
    lines = [f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {side + 2 * margin} {side + 2 * margin}" '
             'font-family="sans-serif" font-size="14">',
             '<rect width="100%" height="100%" fill="#ffffff"/>']
    for tenths in range(0, 11, 2):
        share = tenths / 10
        lines += [f'<path d="M{across(share)} {down(0)}V{down(1)}M{across(0)} {down(share)}H{across(1)}" stroke="#dddddd"/>',
                  f'<text x="{across(share)}" y="{down(0) + 22}" text-anchor="middle">{tenths * 10}</text>',
                  f'<text x="{across(0) - 12}" y="{down(share) + 5}" text-anchor="end">{tenths * 10}</text>']
    lines.append(f'<path d="M{across(0)} {down(0)}L{across(1)} {down(1)}" stroke="#888888" stroke-dasharray="6 4"/>')
    for low in range(0, 100, 10):
        group = tenth(pairs, low)
        if not group:
            continue
        x, y = across(mean(p.stated for p in group) / 100), down(mean(p.share for p in group))
        radius = 4 + 2 * len(group) ** 0.33
        lines += [f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{radius:.1f}" fill="#1f6f8b" fill-opacity="0.8"/>',
                  f'<text x="{x - radius - 4:.1f}" y="{y - 6:.1f}" text-anchor="end" fill="#444444">{len(group)}</text>']
    lines += [f'<text x="{across(0.5)}" y="{down(0) + 48}" text-anchor="middle">stated prospect</text>',
              f'<text transform="translate({across(0) - 46} {down(0.5)}) rotate(-90)" text-anchor="middle">share that came '
              'back right, %</text>', "</svg>"]
    path.write_text("\n".join(lines) + "\n")
