#!/usr/bin/env python3
"""Measures `dredger list --similar`: which pictures are found to be like one another, and which wrongly so.

    alike.py FOLDER_OF_PICTURES [PICTURES [SEED]]

Of each picture variants are made as people and cameras make them (ImageMagick), all are put onto a card (mtools) and
deleted there, and each original is asked for what is like it. Prints of each kind of variant how many were found, and
how many pictures of other origin were taken for alike."""

import json
import pathlib
import random
import subprocess
import sys
import tempfile

DREDGER = pathlib.Path(__file__).resolve().parent.parent / "build" / "dredger"
VARIANTS = {
    "saved again, smaller": ["-quality", "55"],
    "half as large": ["-resize", "50%"],
    "as PNG": [],
    "brighter": ["-modulate", "115"],
    "next of a burst": ["-distort", "SRT", "1.02 0.4"],
    "next but one": ["-distort", "SRT", "1.04 0.8"],
    "border cut by 4 %": ["-gravity", "center", "-crop", "92%x92%+0+0", "+repage"],
    "grey": ["-colorspace", "Gray"],
}


def run(*words, cwd=None):
    return subprocess.run([str(word) for word in words], check=True, cwd=cwd, capture_output=True, text=True).stdout


def main():
    folder, count, seed = pathlib.Path(sys.argv[1]), int((sys.argv + ["", "40"])[2] or 40), int((sys.argv + ["", "", "1"])[3] or 1)
    # Smaller ones are icons, or show nothing.
    pictures = sorted(p for p in folder.rglob("*") if p.suffix.lower() in (".jpg", ".jpeg", ".png", ".webp")
                      and p.stat().st_size > 8192)
    random.Random(seed).shuffle(pictures)
    with tempfile.TemporaryDirectory() as scratch:
        scratch = pathlib.Path(scratch)
        made = {}
        for number, picture in enumerate(pictures[:count]):
            base = f"P{number:03}"
            try:
                run("convert", picture, "-resize", "1600x1600>", "-quality", "90", scratch / f"{base}A.JPG")
            except subprocess.CalledProcessError:
                continue
            made[f"{base}A.JPG"] = "original"
            for letter, (kind, change) in zip("BCDEFGHI", VARIANTS.items()):
                name = f"{base}{letter}.{'PNG' if kind == 'as PNG' else 'JPG'}"
                run("convert", scratch / f"{base}A.JPG", *change, scratch / name)
                made[name] = kind
        image = scratch / "card.img"
        size = sum((scratch / name).stat().st_size for name in made) * 2 + (64 << 20)
        with open(image, "wb") as out:
            out.truncate(size)
        run("mkfs.fat", "-F", "32", image)
        for name in made:
            run("mcopy", "-i", image, scratch / name, f"::{name}")
        for name in made:
            run("mdel", "-i", image, f"::{name}")
        run(DREDGER, "scan", image, "-c", scratch / "card.dredge")
        finds = [json.loads(line) for line in run(DREDGER, "list", scratch / "card.dredge", "--json").splitlines()]
        # A deleted name has lost its first letter.
        origin = {find["id"]: find["name"][1:4] for find in finds}
        found = {kind: 0 for kind in VARIANTS}
        wrong = asked = 0
        for find in finds:
            if not find["name"].upper()[1:].endswith("A.JPG"):
                continue
            asked += 1
            words = [str(DREDGER), "list", str(scratch / "card.dredge"), "--similar", str(find["id"]), "--json"]
            answer = subprocess.run(words, capture_output=True, text=True).stdout
            for like in map(json.loads, answer.splitlines()):
                if origin[like["id"]] != origin[find["id"]]:
                    wrong += 1
                    continue
                kind = next((k for n, k in made.items() if n[1:] == like["name"].upper()[1:]), None)
                if kind in found:
                    found[kind] += 1
    print(f"| of {asked} pictures | found alike |\n| --- | --- |")
    for kind, number in found.items():
        print(f"| {kind} | {number} |")
    print(f"| pictures of another origin, taken for alike | {wrong} of {asked * (asked - 1) * (len(VARIANTS) + 1)} pairs |")


if __name__ == "__main__":
    main()
