#!/usr/bin/env python3
"""Makes demo/damaged: a file of each family that came back from the station's drives broken, and a film of the same nest
camera that is sound. Needs ffmpeg with libx264."""

import bz2
import io
import pathlib
import random
import subprocess
import tarfile
import tempfile
import zipfile

HERE = pathlib.Path(__file__).resolve().parent
chance = random.Random(20260614)


def ffmpeg(suffix, *arguments):
    with tempfile.NamedTemporaryFile(suffix=suffix) as out:
        subprocess.run(["ffmpeg", "-v", "error", "-y", *arguments, "-fflags", "+bitexact", "-flags:v", "+bitexact",
                        "-flags:a", "+bitexact", "-map_metadata", "-1", out.name], check=True)
        return bytearray(pathlib.Path(out.name).read_bytes())


def film(seed, seconds):
    return ffmpeg(".mp4", "-f", "lavfi", "-i", f"mandelbrot=size=320x240:rate=10:start_scale=0.{seed}:end_scale=0.02",
                  "-f", "lavfi", "-i", f"aevalsrc=0.3*sin(2*PI*t*({500 + seed}+200*sin(7*t)))*gt(sin(4*t)\\,0):s=16000",
                  "-t", str(seconds), "-c:v", "libx264", "-g", "20", "-bf", "2", "-crf", "33", "-threads", "1",
                  "-pix_fmt", "yuv420p", "-c:a", "aac", "-b:a", "32k")


def photo():
    return ffmpeg(".jpg", "-f", "lavfi", "-i", "mandelbrot=size=900x600:start_scale=0.4:start_x=-0.7407:start_y=-0.1307",
                  "-frames:v", "1", "-pix_fmt", "yuvj420p", "-q:v", "5")


def report():
    """A field report of ten paragraphs, as a word processor's document."""
    species = ["puffin", "razorbill", "guillemot", "kittiwake", "fulmar", "gannet", "storm petrel", "shag", "eider", "tern"]
    text = "".join(f"<w:p><w:r><w:t>Plot {i + 1}: {chance.randrange(20, 400)} pairs of {name}, {chance.randrange(5, 60)} "
                   f"chicks ringed.</w:t></w:r></w:p>" for i, name in enumerate(species))
    parts = {
        "[Content_Types].xml": '<?xml version="1.0" encoding="UTF-8"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/'
                               'content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.'
                               'relationships+xml"/><Override PartName="/word/document.xml" ContentType="application/vnd.'
                               'openxmlformats-officedocument.wordprocessingml.document.main+xml"/></Types>',
        "_rels/.rels": '<?xml version="1.0" encoding="UTF-8"?><Relationships xmlns="http://schemas.openxmlformats.org/package/'
                       '2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/'
                       'relationships/officeDocument" Target="word/document.xml"/></Relationships>',
        "word/document.xml": '<?xml version="1.0" encoding="UTF-8"?><w:document xmlns:w="http://schemas.openxmlformats.org/'
                             f'wordprocessingml/2006/main"><w:body>{text}</w:body></w:document>',
    }
    return archive(parts)


def archive(parts):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, content in parts.items():
            packed.writestr(zipfile.ZipInfo(name, (2026, 6, 14, 18, 20, 0)), content, zipfile.ZIP_DEFLATED)
    return bytearray(out.getvalue())


def log(month):
    rows = "".join(f"2026-{month:02d}-{day:02d},SK{chance.randrange(400000, 500000)},{chance.choice('AJ')},"
                   f"{chance.randrange(300, 700)}\n" for day in range(1, 29) for _ in range(12))
    return "date,ring,age,mass\n" + rows


def application():
    """A PDF of three pages."""
    objects = ["<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Count 3 /Kids [4 0 R 6 0 R 8 0 R] /MediaBox [0 0 420 595] >>",
               "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>"]
    for page, line in enumerate(["Grant application 2027", "A hide on the west cliff", "Budget: ropes, rings, boat days"]):
        stream = f"BT /F1 20 Tf 40 500 Td ({line}) Tj ET"
        objects.append(f"<< /Type /Page /Parent 2 0 R /Contents {5 + 2 * page} 0 R /Resources << /Font << /F1 3 0 R >> >> >>")
        objects.append(f"<< /Length {len(stream)} >>\nstream\n{stream}\nendstream")
    text, places = "%PDF-1.4\n", []
    for number, body in enumerate(objects, 1):
        places.append(len(text))
        text += f"{number} 0 obj\n{body}\nendobj\n"
    table = len(text)
    text += f"xref\n0 {len(objects) + 1}\n0000000000 65535 f \n" + "".join(f"{p:010} 00000 n \n" for p in places)
    text += f"trailer\n<< /Size {len(objects) + 1} /Root 1 0 R >>\nstartxref\n{table}\n%%EOF\n"
    return bytearray(text.encode()), table


def main():
    folder = HERE / "damaged"
    folder.mkdir(exist_ok=True)

    picture = photo()
    middle = len(picture) // 2 // 512 * 512
    picture[middle:middle + 512] = bytes(512)  # a bad sector
    (folder / "Ledge 3 after the storm.jpg").write_bytes(picture)

    sound = film(23, 6)
    (folder / "Nest camera, sound film.mp4").write_bytes(sound)
    broken = film(31, 9)
    (folder / "Nest camera, battery empty.mp4").write_bytes(broken[:broken.rfind(b"moov") - 4])  # never finished

    document = report()
    (folder / "Field report June.docx").write_bytes(document[:document.find(b"PK\1\2")])  # its end was overwritten

    logs = archive({f"Ringing log 2026-{month:02d}.csv": log(month) for month in (4, 5, 6, 7)})
    third = [i for i in range(len(logs)) if logs[i:i + 4] == b"PK\3\4"][2]
    logs[third + 900:third + 1412] = bytes(512)
    (folder / "Ringing logs.zip").write_bytes(logs)

    grant, table = application()
    (folder / "Grant application.pdf").write_bytes(grant[:table])

    call = ffmpeg(".wav", "-f", "lavfi", "-i", "aevalsrc=0.4*sin(2*PI*t*(420+90*sin(3*t))):s=8000:d=3")
    call[4:8] = call[40:44] = bytes(4)  # the recorder lost power
    (folder / "Puffin growl.wav").write_bytes(call)

    chart = ffmpeg(".png", "-f", "lavfi", "-i", "mandelbrot=size=360x240:start_scale=0.9", "-frames:v", "1", "-pix_fmt", "rgb24")
    (folder / "Landing chart.png").write_bytes(chart[:len(chart) * 8 // 10])

    backup = io.BytesIO()
    with tarfile.open(fileobj=backup, mode="w") as packed:
        for year in range(1994, 2024):
            content = log(year % 9 + 1).encode()
            entry = tarfile.TarInfo(f"Ringing logs/{year}.csv")
            entry.size, entry.mtime = len(content), 1781461200
            packed.addfile(entry, io.BytesIO(content))
    backup = bytearray(bz2.compress(backup.getvalue(), 1))
    backup[len(backup) // 2:len(backup) // 2 + 512] = bytes(512)  # a bad sector
    (folder / "Backup of the logs.tar.bz2").write_bytes(backup)

    scan = ffmpeg(".tif", "-f", "lavfi", "-i", "mandelbrot=size=240x160:start_scale=0.7", "-frames:v", "1", "-pix_fmt", "gray",
                  "-c:v", "tiff", "-compression_algo", "deflate")
    scan[:8] = bytes(8)  # its first bytes were overwritten
    (folder / "Permit 1998, scanned.tif").write_bytes(scan)


if __name__ == "__main__":
    main()
