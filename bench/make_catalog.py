#!/usr/bin/env python3
"""Makes a catalog of many candidates, for measuring what works from catalogs.

    bench/make_catalog.py CATALOG COUNT [--program build/dredger]

The demo medium's finds over and over, each time in folders of another season, with other sizes, times and prospects.
The same count gives the same catalog.
"""

import argparse
import pathlib
import sqlite3
import subprocess
import tempfile

ROOT = pathlib.Path(__file__).resolve().parent.parent


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("catalog", type=pathlib.Path)
    parser.add_argument("count", type=int)
    parser.add_argument("--program", type=pathlib.Path, default=ROOT / "build" / "dredger")
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        image = pathlib.Path(scratch) / "drive.img"
        subprocess.run(["zstd", "-dqf", "--long=27", ROOT / "demo" / "ringing-station-drive.img.zst", "-o", image],
                       check=True)
        subprocess.run([words.program, "scan", "--deep", image, "-c", words.catalog], check=True, capture_output=True)
    catalog = sqlite3.connect(words.catalog)
    columns = [row[1] for row in catalog.execute("PRAGMA table_info(candidates)")]
    highest, finds = catalog.execute("SELECT max(id), count(*) FROM candidates WHERE state <> 0").fetchone()
    changed = {
        "id": f"c.id + {highest} * n",
        "folder": "'Season ' || (1900 + n % 130) || '/Box ' || (n / 130) || CASE c.folder WHEN '' THEN '' ELSE '/' END "
                  "|| c.folder",
        "size": "c.size + n % 977",
        "prospect": "CASE WHEN c.is_folder THEN 100 ELSE (c.prospect * 31 + n) % 101 END",
        "band": "CASE WHEN c.is_folder OR (c.prospect * 31 + n) % 101 >= 88 THEN 0 "
                "WHEN (c.prospect * 31 + n) % 101 >= 35 THEN 1 WHEN (c.prospect * 31 + n) % 101 >= 5 THEN 2 ELSE 3 END",
        "modified": "c.modified - n * 3600",
    }
    catalog.execute(
        f"WITH RECURSIVE turn(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM turn WHERE n < {words.count // finds}) "
        f"INSERT INTO candidates SELECT {', '.join(changed.get(c, 'c.' + c) for c in columns)} "
        "FROM turn JOIN candidates c WHERE c.state <> 0 AND c.id <= ?", (highest,))
    catalog.execute(
        f"WITH RECURSIVE turn(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM turn WHERE n < {words.count // finds}) "
        f"INSERT INTO extents SELECT e.candidate + {highest} * n, e.position, e.offset, e.length FROM turn JOIN "
        "extents e JOIN candidates c ON c.id = e.candidate WHERE c.state <> 0 AND c.id <= ?", (highest,))
    # What a scan counts at its end.
    files = "NOT is_folder"
    bands = ", ".join(f"sum({files} AND band={band})" for band in range(4))
    catalog.execute("DELETE FROM summary")
    catalog.execute(f"INSERT INTO summary SELECT sum(is_folder), {bands}, sum(({files}) * size), "
                    f"sum(({files}) * size * (prospect / 100.0)) FROM candidates WHERE state > 0")
    catalog.commit()
    print(f"{catalog.execute('SELECT count(*) FROM candidates').fetchone()[0]:,} candidates in {words.catalog}")


if __name__ == "__main__":
    main()
