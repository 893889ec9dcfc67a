#!/usr/bin/env python3
"""Makes the demo's third medium: the documents on the desk of the hut's computer, most of them deleted, and the copies that
real programs left of them (as root, with loop devices; needs vim, libreoffice with python3-uno, imagemagick, e2fsprogs).

    demo/make_hut_desk.py

hut-desk    swap files of an editor that was killed (Unix and DOS line ends, a long text), its backups; an office program's
            backup of the save before and its lock file, killed while it had the document open; a thumbnail of a photo;
            dated backups. Beside each swap file in the truth: the text that the editor itself gives back of it (`recovered`).
"""

import contextlib
import hashlib
import os
import pathlib
import pty
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time

HERE = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests/fixtures"))
from make_unix_media import mounted  # noqa: E402
from real_driver import Ledger, pack  # noqa: E402

chance = random.Random(2117)
MIB = 1 << 20
BIRDS = "puffin razorbill kittiwake fulmar guillemot shag gannet tern petrel skua".split()


def log(lines, word):
    return "".join(f"{n:05d} {word}: {chance.choice(BIRDS)} SK{chance.randrange(400_000, 499_999)}, "
                   f"wing {chance.randrange(150, 320)} mm\n" for n in range(lines))


def edit_and_kill(path, keys):
    """Opens a file in the editor, types, has it write its swap file, and kills it."""
    child, terminal = pty.fork()
    if child == 0:
        os.chdir(path.parent)
        os.execvp("vim", ["vim", "-u", "NONE", "-N", "-i", "NONE", path.name])
    time.sleep(1)
    os.write(terminal, keys)
    time.sleep(1.5)
    with contextlib.suppress(OSError):
        os.read(terminal, MIB)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    return path.with_name(f".{path.name}.swp")


def recovered(swap):
    """What the editor itself gives back of a swap file."""
    with tempfile.TemporaryDirectory() as folder:
        copy = pathlib.Path(folder) / swap.name
        shutil.copy(swap, copy)
        subprocess.run(["vim", "-es", "-u", "NONE", "-N", "-i", "NONE", "-c", f"recover {copy}", "-c", f"w! {folder}/text", "-c", "qa!"],
                       stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        return (pathlib.Path(folder) / "text").read_bytes()


OFFICE = """
import os, signal, subprocess, sys, time, uno
from com.sun.star.beans import PropertyValue
def prop(name, value):
    one = PropertyValue(); one.Name = name; one.Value = value; return one
home, target = sys.argv[1:3]
office = subprocess.Popen(["soffice", "--headless", "--norestore", "--nologo", f"-env:UserInstallation=file://{home}/.config/libreoffice/4",
                           "--accept=socket,host=localhost,port=2117;urp;"], env={**os.environ, "HOME": home}, preexec_fn=os.setsid)
local = uno.getComponentContext()
resolver = local.ServiceManager.createInstanceWithContext("com.sun.star.bridge.UnoUrlResolver", local)
for _ in range(60):
    try:
        context = resolver.resolve("uno:socket,host=localhost,port=2117;urp;StarOffice.ComponentContext"); break
    except Exception: time.sleep(1)
make = lambda name: context.ServiceManager.createInstanceWithContext(name, context)
place = prop("nodepath", "/org.openoffice.Office.Common/Save/Document")
access = make("com.sun.star.configuration.ConfigurationProvider").createInstanceWithArguments("com.sun.star.configuration.ConfigurationUpdateAccess", (place,))
access.setPropertyValue("CreateBackup", True); access.commitChanges()
document = make("com.sun.star.frame.Desktop").loadComponentFromURL("private:factory/swriter", "_blank", 0, ())
document.Text.setString("Season report. Puffins ringed on the west ledge: 41.\\n" * 5)
document.storeAsURL("file://" + target, ())
document.Text.setString("Season report. Puffins ringed on the west ledge: 43, and two razorbills.\\n" * 5)
document.store()
time.sleep(1)
os.killpg(os.getpgid(office.pid), signal.SIGKILL)
"""


def main():
    with tempfile.TemporaryDirectory() as temporary:
        scratch = pathlib.Path(temporary)
        home, image = scratch / "home", scratch / "hut-desk.img"
        texts = home / "wren/Logs"
        texts.mkdir(parents=True)
        (home / "wren/Reports").mkdir()
        april, may = log(40, "April"), log(20, "May")
        for day, kept in (("2026-04-01", april), ("2026-05-01", april + may)):
            dated = home / f"Station backup {day}/Logs"
            dated.mkdir(parents=True)
            (dated / "May.txt").write_text(kept)
        (texts / "May.txt").write_text(april + may)
        (texts / "Weather.csv").write_bytes(log(30, "weather").replace("\n", "\r\n").encode())
        (texts / "All rings.txt").write_text(log(1500, "ring"))
        (texts / "Kept.txt").write_text(log(20, "kept"))
        swaps = {}
        for name, keys in {"May.txt": b":set backup backupskip= backupdir=.\rggORead again before the season.\x1b:w\r"
                                      b"Goand one line that was never saved\x1b:preserve\r",
                           "Weather.csv": b"ggdd:preserve\r", "All rings.txt": b"700Gdd10jiXX\x1bG:preserve\r"}.items():
            swap = edit_and_kill(texts / name, keys)
            swaps[f"wren/Logs/{swap.name}"] = recovered(swap)
        # A save leaves the state before it as a backup.
        edit_and_kill(texts / "Kept.txt", b":set backup backupskip= backupdir=.\rGoone line more\x1b:w\r:preserve\r")
        (texts / ".Kept.txt.swp").unlink()

        (scratch / "office.py").write_text(OFFICE)
        subprocess.run(["/usr/bin/python3", scratch / "office.py", home / "wren", home / "wren/Reports/Season report.odt"], check=True,
                       timeout=180)
        profile = home / "wren/.config/libreoffice/4"
        for path in list(profile.rglob("*")):
            if path.is_file() and "backup" not in path.parts:
                path.unlink()
        for path in sorted(profile.rglob("*"), reverse=True):
            if path.is_dir() and not any(path.iterdir()):
                path.rmdir()

        photo = home / "wren/Photos/Ledge.png"
        photo.parent.mkdir()
        subprocess.run(["convert", "-size", "320x240", "gradient:navy-gold", photo], check=True)
        thumbnail = home / f"wren/.cache/thumbnails/normal/{hashlib.md5(b'file:///home/wren/Photos/Ledge.png').hexdigest()}.png"
        thumbnail.parent.mkdir(parents=True)
        subprocess.run(["convert", photo, "-thumbnail", "128x128", "-set", "Thumb::URI", "file:///home/wren/Photos/Ledge.png", thumbnail],
                       check=True)
        for path in home.rglob("*"):
            if path.is_file():
                days = 3 if path.suffix == ".swp" else 0 if path.name.endswith(("~", ".bak")) or "backup 2026" in str(path) else 1
                os.utime(path, (1777626000 + 86400 * days,) * 2)

        with open(image, "wb") as f:
            f.truncate(16 * MIB)
        subprocess.run(["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-L", "HUTDESK", image], check=True)
        with mounted(image) as folder:
            subprocess.run(["cp", "-a", *home.iterdir(), folder], check=True)
        ledger = Ledger(image)
        with mounted(image) as folder:
            ledger.located(folder)
        for name in [n for n in ledger.files if n.startswith("lost+found")]:
            del ledger.files[name]
        with mounted(image) as folder:
            for name in ["wren/Logs/May.txt", "wren/Logs/Weather.csv", "wren/Logs/All rings.txt", "wren/Reports/Season report.odt",
                         "wren/Photos/Ledge.png"]:
                (folder / name).unlink()
                ledger.deleted(name)
        documents = {
            "wren/Logs/.May.txt.swp": "wren/Logs/May.txt", "wren/Logs/.Weather.csv.swp": "wren/Logs/Weather.csv",
            "wren/Logs/.All rings.txt.swp": "wren/Logs/All rings.txt", "wren/Logs/Kept.txt~": "wren/Logs/Kept.txt",
            "wren/.config/libreoffice/4/user/backup/Season report.bak": "wren/Reports/Season report.odt",
            "wren/Reports/.~lock.Season report.odt#": "wren/Reports/Season report.odt",
            str(thumbnail.relative_to(home)): "wren/Photos/Ledge.png",
            "wren/Logs/May.txt~": "wren/Logs/May.txt", "Station backup 2026-04-01/Logs/May.txt": "wren/Logs/May.txt",
            "Station backup 2026-05-01/Logs/May.txt": "wren/Logs/May.txt"}
        for copy, document in documents.items():
            ledger.files[copy]["safety_copy_of"] = document
        for swap, text in swaps.items():
            ledger.files[swap]["recovered"] = {"size": len(text), "sha256": hashlib.sha256(text).hexdigest()}
        ledger.dump(HERE / "hut-desk.truth.json", filesystem="ext4", scenario="documents deleted, copies of them left", volumes=[
            {"offset": 0, "length": 16 * MIB, "filesystem": "ext4", "label": "HUTDESK", "table": "none"}])
        pack(image, HERE / "hut-desk.img.zst")


if __name__ == "__main__":
    main()
