#!/usr/bin/env python3
"""Makes the demo medium: the drive of a small seabird ringing station, written by real drivers.

    DREDGER_KERNEL_DIR=FOLDER demo/make_medium.py

Writes demo/ringing-station-drive.img.zst and its truth beside it. The drive has 100 MiB and an MBR. Its first partition is
a copy of the camera's card (FAT32): a season's files were written; then a survey folder, photos, logs and a video deleted;
then new photos written over a part of what was freed. The second is the office's (NTFS): some things lie in the bin, some
were deleted, with a compressed list and a map that has an alternate stream among them; new letters lie over a part.
Behind both lies the end of an older volume that no table knows any more: its files have no record left. The third is the
hut's server (ext4): recordings, a mail, a photo and a log were removed. Made as root, with a loop device.
Besides what tests/fixtures/real_driver.py needs: ffmpeg, dosfstools, mtools, fdisk, zstd.
"""

import contextlib
import io
import json
import hashlib
import os
import pathlib
import random
import subprocess
import sys
import tempfile
import zipfile

HERE = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests/fixtures"))
from payload import bin_index  # noqa: E402
from real_driver import Guest, Ledger, NtfsDriver, Season, pack  # noqa: E402

chance = random.Random(20260503)
START, CARD = 2048 * 512, 63 << 20
OFFICE_START, OFFICE = 64 << 20, 24 << 20
SERVER_START, SERVER = 92 << 20, 8 << 20  # behind the end of the older volume
SID = "S-1-5-21-3141592653-2718281828-1618033988-1001"
COMPRESSED = bytes.fromhex("00000810")  # file attributes of a folder whose files are compressed


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


def card(scratch):
    """The first partition, as a medium of its own, and what was written to it."""
    image, partition = scratch / "card.img", scratch / "partition"
    with open(image, "wb") as f:
        f.truncate(START + CARD)
    subprocess.run(["sfdisk", "-q", image], input="label: dos\nlabel-id: 0x5ea81d00\nstart=2048, type=c\n", text=True, check=True)
    with open(partition, "wb") as f:
        f.truncate(CARD)
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
    return image, ledger


def office_files(folder):
    s = Season(folder)
    s.file("Letters/Ferry company, winter timetable.docx", docx([f"Week {n}: boat on day {n % 5 + 1}" for n in range(120)]),
           "2026-02-03T09:12:00")
    s.file("Letters/Thanks to the volunteers.docx", docx([f"Thank you, volunteer {n}." for n in range(60)]), "2026-09-12T15:40:00")
    s.file("Permits/Ringing permit 2027 (draft).pdf", pdf("Ringing permit 2027, draft", 4), "2026-10-05T11:00:00")
    s.file("Station rules.txt", "".join(f"{n}. Keep to path {chance.choice('ABCDEF')}{n}.\r\n" for n in range(1, 24)).encode(),
           "2025-03-01T08:00:00")
    s.file("Hut keys.txt", b"north hut: under the third stone\r\nsouth hut: Mika has it\r\n", "2026-04-18T19:05:00")
    for n in range(1, 7):
        s.file(f"Season reports/Report {2019 + n}.pdf", pdf(f"Season report {2019 + n}", 3 + n), f"{2020 + n}-01-20T10:0{n}:00")
    base = "Grant application 2027"
    s.file(f"{base}/Budget.csv", ringing_log("equipment", 240, 2026), "2026-09-30T17:45:00")
    s.file(f"{base}/Project description.docx", docx([f"Aim {n}: follow {n * 40} nests over {n % 4 + 1} seasons" for n in range(150)]),
           "2026-10-01T13:20:00")
    s.file(f"{base}/Figures/Colony trend 1998–2026.jpg", photo(70, "800x500"), "2026-09-28T10:00:00")
    s.file(f"{base}/Figures/Ledge map, Küstenabschnitt 4.jpg", photo(71, "800x500"), "2026-09-28T10:30:00")
    s.empty_folder(f"{base}/Letters of support")
    s.file("Photos for the calendar/January guillemots.jpg", photo(80, "1024x700"), "2026-07-19T18:00:00")
    s.file("Photos for the calendar/February fulmar.jpg", photo(81, "1024x700"), "2026-07-19T18:05:00")
    s.file("Photos for the calendar/March razorbills.jpg", photo(82, "1024x700"), "2026-07-19T18:10:00")
    s.file("Maps/Landing places.jpg", photo(90, "1000x800"), "2026-05-02T07:30:00")
    s.file("Ringing/Recoveries 2026.csv", ringing_log("Alca torda", 420), "2026-10-11T20:15:00")
    s.file("Ringing/Nest boxes.csv", ringing_log("Cepphus grylle", 60), "2026-08-14T09:00:00")
    return s


def office(scratch):
    """The second partition, and what was written to it."""
    image = scratch / "office.img"
    with open(image, "wb") as f:
        f.truncate(OFFICE)
    subprocess.run(["mkntfs", "-q", "-F", "-c", "4096", "-p", str(OFFICE_START // 512), "-H", "255", "-S", "63", "-L", "OFFICE", image],
                   check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    driver, ledger = NtfsDriver(image), Ledger(image)
    s = office_files(scratch / "office")
    packed = "Archive/All rings since 1987.csv"
    zone = b"[ZoneTransfer]\r\nZoneId=3\r\nHostUrl=https://maps.example/landing-places.jpg\r\n"
    content = b"".join(b"SK%06d;%d;Rissa tridactyla;pullus;ledge %d\r\n" % (100_000 + n, 1987 + n // 150, n % 24) for n in range(6000))
    with driver.mounted("2026-10-12T09:00:00") as mnt:
        driver.copy(s, mnt)
        os.mkdir(mnt / "Archive")
        os.setxattr(mnt / "Archive", "system.ntfs_attrib_be", COMPRESSED)
        (s.folder / "Archive").mkdir()
        (mnt / "Maps/Landing places.jpg:Zone.Identifier").write_bytes(zone)
        # Room that is taken while these are written, so that later files go where deleted ones were.
        (mnt / packed).write_bytes(content)
        (s.folder / packed).write_bytes(content)
        for place in (mnt, s.folder):
            os.utime(place / packed, (1_775_000_000, 1_775_000_000))
            os.utime(place / "Maps/Landing places.jpg", (1_777_707_000, 1_777_707_000))
    ledger.located(s.folder)
    ledger.stream("Maps/Landing places.jpg", "Zone.Identifier", zone)
    ledger.resident()
    ledger.packed(packed, driver.clusters_of(packed), 4096)

    bin_ = f"$RECYCLE.BIN/{SID}"
    thrown = [("Photos for the calendar/February fulmar.jpg", "$RQ7F2KD.jpg", "2026-10-20T16:02:11"),
              ("Ringing/Recoveries 2026.csv", "$R3ZXM8A.csv", "2026-10-28T08:45:30"),
              ("Letters/Ferry company, winter timetable.docx", "$RBN51WT.docx", "2026-11-02T12:10:05"),
              ("Season reports", "$RP0L6VE", "2026-11-03T09:30:44"),
              ("Permits/Ringing permit 2027 (draft).pdf", "$RK8D4HS.pdf", "2026-11-05T18:22:19")]
    with driver.mounted("2026-11-06T09:00:00") as mnt:
        (mnt / bin_).mkdir(parents=True)
        for path, item, when in thrown:
            size = (mnt / path).stat().st_size if (mnt / path).is_file() else 0
            index = mnt / bin_ / item.replace("$R", "$I")
            index.write_bytes(bin_index(2, "D:\\" + path.replace("/", "\\"), size, when))
            os.utime(index, (1_794_000_000, 1_794_000_000))
            os.rename(mnt / path, mnt / bin_ / item)
            ledger.moved(path, f"{bin_}/{item}")
            ledger.trashed(f"{bin_}/{item}", "D:/" + path, when)
        subprocess.run(["cp", "-a", mnt / bin_, scratch / "bin"], check=True)
    for item in list((scratch / "bin").iterdir()):
        if item.name.startswith("$R"):
            subprocess.run(["rm", "-r", item], check=True)
    ledger.located(scratch / "bin", bin_)
    ledger.resident()
    gone = ["Grant application 2027", "Hut keys.txt", packed, "Maps/Landing places.jpg", "Photos for the calendar/March razorbills.jpg",
            # Out of the bin for good.
            f"{bin_}/$RK8D4HS.pdf", f"{bin_}/$IK8D4HS.pdf"]
    later = Season(scratch / "later")
    later.file("Letters/Answer to the ministry.docx", docx([f"Point {n}: {chance.getrandbits(200):050x}" for n in range(300)]),
               "2026-11-09T10:00:00")
    with driver.mounted("2026-11-09T10:00:00") as mnt:
        spare = os.statvfs(mnt)
        (mnt / "pagefile.sys").write_bytes(bytes(spare.f_bavail * spare.f_frsize - 16_384))
        for path in gone:
            subprocess.run(["rm", "-r", mnt / path], check=True)
            ledger.deleted(path)
        driver.copy(later, mnt)
    ledger.located(later.folder)
    return image, ledger


@contextlib.contextmanager
def mounted(image):
    """By the kernel's own driver, as root."""
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run(["mount", "-o", "loop", image, folder], check=True)
        try:
            yield pathlib.Path(folder)
        finally:
            subprocess.run(["umount", folder], check=True)


def server(scratch):
    """The hut's small server: an ext4 volume from which a season's call recordings and a mailbox were removed."""
    image = scratch / "server.img"
    with open(image, "wb") as f:
        f.truncate(SERVER)
    subprocess.run(["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-L", "HUT", image], check=True)
    ledger = Ledger(image)
    season = Season(scratch / "server")
    season.file("srv/logs/Weather 2026-06.csv", ringing_log("guillemot", 220), "2026-06-30T23:55:00")
    season.file("srv/logs/Weather 2026-07.csv", ringing_log("razorbill", 260), "2026-07-31T23:55:00")
    season.file("home/runa/Calls/Razorbill chorus.mp3", call(31, 9, ".mp3"), "2026-06-11T03:20:00")
    season.file("home/runa/Calls/Puffin growl.flac", call(32, 3, ".flac"), "2026-06-12T03:40:00")
    season.file("home/runa/Calls/Night/Storm petrel.ogg", call(33, 6, ".ogg"), "2026-06-13T00:15:00")
    season.file("home/runa/Mail/Moorings.eml", mail("Moorings for the season", 25), "2026-05-02T08:30:00")
    season.file("home/runa/Mail/Re_ generator.eml", mail("Re: generator", 12), "2026-05-09T19:12:00")
    season.file("home/tove/Ledge survey.pdf", pdf("Ledge survey 2026", 2), "2026-07-20T16:00:00")
    season.file("home/tove/Ledge 3 from the boat.jpg", photo(41, "640x480"), "2026-07-19T11:05:00")
    season.file("home/tove/Species codes.txt", "\n".join(f"{n:03d} code of a species" for n in range(120)).encode(), "2026-03-01T10:00:00")
    with mounted(image) as folder:
        subprocess.run(["sh", "-e"], text=True, check=True,
                       input=season.script().replace('"/payload/', f'"{season.folder}/').replace('"/mnt/', f'"{folder}/'))
    with mounted(image) as folder:
        ledger.located(folder)
    del ledger.files["lost+found"]
    with mounted(image) as folder:
        for path in ("home/runa/Calls", "home/runa/Mail/Moorings.eml", "home/tove/Ledge 3 from the boat.jpg",
                     "srv/logs/Weather 2026-06.csv"):
            subprocess.run(["rm", "-r", folder / path], check=True)
            ledger.deleted(path)
    return image, ledger


def older_volume(scratch):
    """The last 4 MiB of a FAT volume that reached further than today's, and the files that lie wholly in them."""
    image, length, tail = scratch / "older.img", 12 << 20, 4 << 20
    with open(image, "wb") as f:
        f.truncate(length)
    subprocess.run(["mkfs.vfat", "-s", "8", "-n", "OLDCARD", "-i", "5ea81cff", image], check=True, stdout=subprocess.DEVNULL)
    subprocess.run(["mmd", "-i", image, "::/2024"], check=True)
    files = {
        "Room.bin": bytes(8 << 20), "Fledgling.jpg": photo(3, "320x240", 9), "Burrow camera.mp4": video(6),
        "Ledge 9 in fog.jpg": photo(12, "800x600"), "Harbour notice.docx": docx([f"Quay {n} is closed." for n in range(90)]),
        "Landing permit 2024.pdf": pdf("Landing permit 2024", 4), "Re_ lost ring SK441207.eml": mail("Re: lost ring SK441207", 40),
        "Storm petrel purr.mp3": call(2, 8, ".mp3"), "Old ringing logs.zip": None, "Colony from the sea.jpg": photo(17, "1024x700", 4),
    }
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as z:
        for year in (2021, 2022, 2023):
            z.writestr(zipfile.ZipInfo(f"Ringing log {year}.csv", (year, 10, 1, 12, 0, 0)), ringing_log("Uria aalge", 200, year))
    files["Old ringing logs.zip"] = packed.getvalue()
    for name, content in files.items():
        # The last one goes into the room of a deleted one, and on behind all others.
        if name.startswith("Colony"):
            subprocess.run(["mdel", "-i", image, "::/2024/Fledgling.jpg"], check=True)
        (scratch / "content").write_bytes(content)
        subprocess.run(["mcopy", "-i", image, scratch / "content", f"::/2024/{name}"], check=True)
    raw, listed = image.read_bytes()[length - tail:], []
    for name, content in files.items():
        pieces, done = [], 0
        while done < len(content):
            here = raw.find(content[done:done + 4096])
            if here < 0 or here % 512 != 0:
                break
            n = 0
            while done + n < len(content) and raw[here + n:here + n + 512][:len(content) - done - n] == content[done + n:done + n + 512]:
                n += 512
            n = min(n, len(content) - done)
            pieces.append([OFFICE_START + OFFICE + here, n])
            done += n
        if done == len(content) and name not in ("Room.bin", "Fledgling.jpg"):
            listed.append({"path": f"2024/{name}", "directory": False, "state": "lost", "size": len(content), "modified": None, "case": "older volume",
                           "sha256": hashlib.sha256(content).hexdigest(), "extents": pieces, "volume": None, "intact_bytes": len(content)})
    return raw, listed


def main():
    with tempfile.TemporaryDirectory() as scratch:
        scratch = pathlib.Path(scratch)
        parts = [(START, CARD, "fat32", "RINGCARD", *card(scratch)), (OFFICE_START, OFFICE, "ntfs", "OFFICE", *office(scratch)),
                 (SERVER_START, SERVER, "ext4", "HUT", *server(scratch))]
        behind, forgotten = older_volume(scratch)
        drive = scratch / "drive.img"
        with open(drive, "wb") as f:
            f.truncate(SERVER_START + SERVER)
        subprocess.run(["sfdisk", "-q", drive], text=True, check=True,
                       input=f"label: dos\nlabel-id: 0x5ea81d00\nstart=2048, size={CARD // 512}, type=c\n"
                       f"start={OFFICE_START // 512}, size={OFFICE // 512}, type=7\n"
                       f"start={SERVER_START // 512}, size={SERVER // 512}, type=83\n")
        volumes, files = [], []
        with open(drive, "r+b") as out:
            for number, (start, length, filesystem, label, image, ledger) in enumerate(parts):
                out.seek(start)
                out.write(image.read_bytes()[-length:])
                volumes.append({"offset": start, "length": length, "filesystem": filesystem, "label": label, "table": "mbr"})
                files += ledger.listed(number, start if image.stat().st_size == length else 0)
            out.seek(OFFICE_START + OFFICE)
            out.write(behind)
        files += forgotten
        pack(drive, HERE / "ringing-station-drive.img.zst")
        raw = drive.read_bytes()
        (HERE / "ringing-station-drive.truth.json").write_text(json.dumps({
            "filesystem": "fat32, ntfs, ext4", "scenario": "the card: a season's files; a survey folder, photos, logs and a video deleted; new "
            "files over part of it. The office: things thrown into the bin, deleted for good, and a new letter over part of it; behind both the end of an older volume. "
            "The hut's server: recordings, a mail, a photo and a log removed",
            "volumes": volumes, "image_bytes": len(raw), "image_sha256": hashlib.sha256(raw).hexdigest(), "files": files},
            indent=1, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
