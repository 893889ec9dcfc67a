#!/usr/bin/env python3
"""Makes the demo medium: the memory card of a small seabird ringing station, written by the real vfat driver.

    DREDGER_KERNEL_DIR=FOLDER demo/make_medium.py

Writes demo/ringing-station-card.img.zst and its truth beside it. The card is 64 MiB with one FAT32 partition. A season's
files are written; then a survey folder, photos, logs and a video are deleted; then new photos are written over a part of
what was freed. Besides what tests/fixtures/real_driver.py needs: ffmpeg, dosfstools, fdisk, zstd.
"""

import io
import pathlib
import random
import subprocess
import sys
import tempfile
import zipfile

HERE = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests/fixtures"))
from real_driver import Guest, Ledger, Season, pack  # noqa: E402

chance = random.Random(20260503)
START = 2048 * 512


def ffmpeg(suffix, *arguments):
    with tempfile.NamedTemporaryFile(suffix=suffix) as out:
        subprocess.run(["ffmpeg", "-v", "error", "-y", *arguments, "-fflags", "+bitexact", "-flags", "+bitexact",
                        "-map_metadata", "-1", out.name], check=True)
        return pathlib.Path(out.name).read_bytes()


def photo(seed, size="900x600", quality=6):
    start = 0.2 + 0.05 * seed
    return ffmpeg(".jpg", "-f", "lavfi", "-i",
                  f"mandelbrot=size={size}:start_scale={start}:start_x=-0.74{seed:02d}:start_y=-0.13{seed:02d}",
                  "-frames:v", "1", "-q:v", str(quality))


def call(seed, seconds, suffix):
    tone = 700 + 90 * seed
    return ffmpeg(suffix, "-f", "lavfi", "-i",
                  f"aevalsrc=sin(2*PI*t*({tone}+300*sin(9*t)))*0.5*gt(sin(5*t)\\,0)+0.01*random({seed}):s=11025:d={seconds}")


def video(seconds):
    return ffmpeg(".mp4", "-f", "lavfi", "-i", f"testsrc2=size=320x180:rate=10:duration={seconds}",
                  "-c:v", "mpeg4", "-q:v", "9")


def ringing_log(species, rows, year=2026):
    lines = ["ring;date;species;age;wing_mm;mass_g;nest;observer"]
    for n in range(rows):
        lines.append(f"SK{chance.randrange(100000, 999999)};{year}-0{chance.randrange(4, 8)}-{chance.randrange(1, 29):02d};"
                     f"{species};{chance.choice(['pullus', '2cy', '3cy+'])};{chance.randrange(180, 420)};"
                     f"{chance.randrange(250, 1200)};{chance.choice('ABCDEF')}{chance.randrange(1, 90)};"
                     f"{chance.choice(['I. Tangen', 'M. Okonkwo', 'J. Varga'])}")
    return ("\r\n".join(lines) + "\r\n").encode()


def pdf(title, pages):
    """A plain PDF with one line of text a page."""
    out, places = io.BytesIO(b"%PDF-1.4\n"), []
    out.seek(0, io.SEEK_END)

    def add(body):
        places.append(out.tell())
        out.write(f"{len(places)} 0 obj\n{body}\nendobj\n".encode())

    kids = " ".join(f"{4 + 2 * n} 0 R" for n in range(pages))
    add("<< /Type /Catalog /Pages 2 0 R >>")
    add(f"<< /Type /Pages /Count {pages} /Kids [{kids}] >>")
    add("<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>")
    for n in range(pages):
        text = f"BT /F1 14 Tf 60 770 Td ({title}, page {n + 1}) Tj ET\n" + "".join(
            f"BT /F1 9 Tf 60 {740 - 12 * k} Td (Paragraph {k}: {chance.getrandbits(160):040x}) Tj ET\n" for k in range(40))
        add(f"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents {5 + 2 * n} 0 R "
            "/Resources << /Font << /F1 3 0 R >> >> >>")
        add(f"<< /Length {len(text)} >>\nstream\n{text}endstream")
    xref = out.tell()
    out.write(f"xref\n0 {len(places) + 1}\n0000000000 65535 f \n".encode())
    out.write("".join(f"{p:010d} 00000 n \n" for p in places).encode())
    out.write(f"trailer\n<< /Size {len(places) + 1} /Root 1 0 R >>\nstartxref\n{xref}\n%%EOF\n".encode())
    return out.getvalue()


def docx(paragraphs):
    body = "".join(f"<w:p><w:r><w:t>{text}</w:t></w:r></w:p>" for text in paragraphs)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        for name, text in {
            "[Content_Types].xml": '<?xml version="1.0"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
            '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
            '<Override PartName="/word/document.xml" ContentType="application/vnd.openxmlformats-officedocument.'
            'wordprocessingml.document.main+xml"/></Types>',
            "_rels/.rels": '<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
            '<Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" '
            'Target="word/document.xml"/></Relationships>',
            "word/document.xml": '<?xml version="1.0"?><w:document xmlns:w="http://schemas.openxmlformats.org/'
            f'wordprocessingml/2006/main"><w:body>{body}</w:body></w:document>'}.items():
            z.writestr(zipfile.ZipInfo(name, (2026, 5, 1, 12, 0, 0)), text)
    return out.getvalue()


def mail(subject, lines):
    return ("From: ingrid@ringing.example\r\nTo: warden@ringing.example\r\nDate: Mon, 15 Jun 2026 18:20:00 +0000\r\n"
            f"Subject: {subject}\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n"
            + "\r\n".join(f"{n}: nest {chance.choice('ABCDEF')}{chance.randrange(90)} {chance.getrandbits(96):024x}"
                          for n in range(lines)) + "\r\n").encode()


def first_season(folder):
    s = Season(folder)
    s.file("Ringing logs/2025/Ringing log 2025 complete.csv", ringing_log("Uria aalge", 900, 2025), "2025-09-30T17:10:00")
    for n in range(1, 9):
        s.file(f"DCIM/100NESTS/NEST{n:04d}.JPG", photo(n), f"2026-05-{n + 2:02d}T0{n}:14:06")
    s.file("Ringing logs/2026/Ringing log 2026-05.csv", ringing_log("Rissa tridactyla", 500), "2026-05-31T20:02:00")
    s.file("Ringing logs/2026/Níðhöggur – Papageitaucher Höhle 12.csv", ringing_log("Fratercula arctica", 140),
           "2026-06-02T09:31:12")
    s.file("Ringing logs/2026/кольца чаек.csv", ringing_log("Larus argentatus", 220), "2026-06-03T21:45:30")
    s.file("Ringing logs/2026/ウトウの足環.csv", ringing_log("Cerorhinca monocerata", 90), "2026-06-04T05:12:44")
    s.file("Permits/Ringing permit 2026 (signed).pdf", pdf("Ringing permit 2026", 6), "2026-03-14T10:00:00")
    s.file("Permits/Landing permit north stack.pdf", pdf("Landing permit", 3), "2026-03-15T10:20:00")
    s.file("Calls/storm petrel burrow 7.wav", call(3, 9, ".wav"), "2026-06-11T23:58:20")
    s.file("Calls/kittiwake ledge.mp3", call(5, 20, ".mp3"), "2026-06-12T04:40:00")
    base = "Gannet colony survey 2026"
    s.file(f"{base}/Survey plan.docx", docx([f"Plot {n}: count at {n % 12 + 6}:00, wind {n % 7} Bft, observer pair {n % 3}"
                                             for n in range(400)]), "2026-04-20T08:15:00")
    s.file(f"{base}/Counts/plot A – weekly counts.csv", ringing_log("Morus bassanus", 180), "2026-06-14T16:00:02")
    s.file(f"{base}/Counts/plot B – weekly counts.csv", ringing_log("Morus bassanus", 160), "2026-06-14T16:30:02")
    for n in range(1, 13):
        s.file(f"{base}/Photos/West cliff/ledge {n:02d} overview from the boat.jpg", photo(20 + n, "480x320", 8),
               f"2026-06-{n + 10:02d}T11:05:{n:02d}")
    s.file(f"{base}/Photos/West cliff/Näher dran/Küken Nest 4.jpg", photo(40, "640x480"), "2026-06-24T12:00:10")
    s.empty_folder(f"{base}/Photos/East cliff")
    s.file("Nest camera/cam2 2026-06-14 0410.mp4", video(14), "2026-06-14T04:10:30")
    s.file("Mail/Re_ colour rings for the kittiwakes.eml", mail("Re: colour rings for the kittiwakes", 70), "2026-06-15T18:20:00")
    s.file("Mail/Boat times in July.eml", mail("Boat times in July", 25), "2026-06-16T07:00:00")
    return s


def second_season(folder):
    s = Season(folder)
    s.file("DCIM/101NESTS/NEST0101.JPG", photo(60, "1024x768", 5), "2026-08-02T06:10:00")
    s.file("DCIM/101NESTS/NEST0102.JPG", photo(61, "720x480"), "2026-08-02T06:12:30")
    s.file("Ringing logs/2026/Ringing log 2026-07.csv", ringing_log("Rissa tridactyla", 130), "2026-07-31T20:00:00")
    return s


def main():
    with tempfile.TemporaryDirectory() as scratch:
        scratch = pathlib.Path(scratch)
        image, partition = scratch / "card.img", scratch / "partition"
        with open(image, "wb") as f:
            f.truncate(64 << 20)
        subprocess.run(["sfdisk", "-q", image], input="label: dos\nlabel-id: 0x5ea81d00\nstart=2048, type=c\n", text=True, check=True)
        with open(partition, "wb") as f:
            f.truncate((64 << 20) - START)
        subprocess.run(["mkfs.vfat", "-F", "32", "-s", "1", "-n", "RINGCARD", "-i", "5ea81d01", partition], check=True,
                       stdout=subprocess.DEVNULL)
        subprocess.run(["dd", f"if={partition}", f"of={image}", "bs=1M", "seek=1", "conv=notrunc,sparse", "status=none"], check=True)

        mount = "mount -t vfat -o utf8,tz=UTC /dev/vda1 /mnt\n"
        guest, ledger = Guest(image), Ledger(image)

        first = first_season(scratch / "first")
        guest.run(mount + first.script() + "\numount /mnt\n", first.folder, clock="2026-06-30T09:00:00")
        ledger.located(first.folder)

        gone = ["Ringing logs/2025/Ringing log 2025 complete.csv", "DCIM/100NESTS/NEST0001.JPG", "DCIM/100NESTS/NEST0002.JPG",
                "DCIM/100NESTS/NEST0005.JPG", "DCIM/100NESTS/NEST0006.JPG",
                "Ringing logs/2026/Níðhöggur – Papageitaucher Höhle 12.csv", "Ringing logs/2026/ウトウの足環.csv",
                "Permits/Ringing permit 2026 (signed).pdf", "Calls/storm petrel burrow 7.wav",
                "Nest camera/cam2 2026-06-14 0410.mp4", "Mail/Re_ colour rings for the kittiwakes.eml",
                "Gannet colony survey 2026"]
        second = second_season(scratch / "second")
        # The driver's hint where to look for free clusters, as on the fresh card: new files then go to the start.
        (second.folder / "hint").write_bytes(partition.read_bytes()[512:1024])
        guest.run(mount + "\n".join(f'rm -r "/mnt/{path}"' for path in gone) + "\numount /mnt\n"
                  + "dd if=/payload/hint of=/dev/vda1 bs=512 seek=1 count=1\n"
                  + mount + second.script() + "\numount /mnt\n", second.folder, clock="2026-08-03T09:00:00")
        (second.folder / "hint").unlink()
        for path in gone:
            ledger.deleted(path)
        ledger.located(second.folder)
        ledger.dump(HERE / "ringing-station-card.truth.json", filesystem="fat32",
                    scenario="a season's files; a survey folder, photos, logs and a video deleted; new files over part of it",
                    volumes=[{"offset": START, "length": (64 << 20) - START, "filesystem": "fat32", "label": "RINGCARD",
                              "table": "mbr"}])
        pack(image, HERE / "ringing-station-card.img.zst")


if __name__ == "__main__":
    main()
