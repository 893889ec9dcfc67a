#!/usr/bin/env python3
"""Drives the preview page in headless Chromium: filters, ticks three finds, downloads the pick list and restores from it.

    preview_page.py DREDGER DEMO_IMAGE.zst

Ends with 77 (skipped) where there is no chromedriver.
"""

import json
import pathlib
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request


class Browser:
    """A session of the WebDriver protocol (W3C)."""

    def __init__(self, downloads):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.driver = subprocess.Popen(["chromedriver", f"--port={self.port}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.session = ""
        for _ in range(900):
            try:
                self.session = "/session/" + self.ask("POST", "/session", {"capabilities": {"alwaysMatch": {
                    "browserName": "chrome",
                    "goog:chromeOptions": {
                        "args": ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--window-size=1280,800"],
                        "prefs": {"download.default_directory": str(downloads), "download.prompt_for_download": False}}}}})["sessionId"]
                return
            except ConnectionError:
                time.sleep(0.1)
            except urllib.error.URLError:
                time.sleep(0.1)
        raise RuntimeError("chromedriver does not answer")

    def ask(self, method, path, body=None):
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}{path}", method=method,
                                         data=None if body is None else json.dumps(body).encode(),
                                         headers={"Content-Type": "application/json"})
        with urllib.request.urlopen(request, timeout=120) as answer:
            return json.load(answer)["value"]

    def open(self, url):
        self.ask("POST", self.session + "/url", {"url": url})

    def run(self, script, *arguments):
        return self.ask("POST", self.session + "/execute/sync", {"script": script, "args": list(arguments)})

    def element(self, selector):
        return next(iter(self.ask("POST", self.session + "/element", {"using": "css selector", "value": selector}).values()))

    def click(self, selector):
        self.ask("POST", f"{self.session}/element/{self.element(selector)}/click", {})

    def type(self, selector, text):
        self.ask("POST", f"{self.session}/element/{self.element(selector)}/value", {"text": text})

    def key(self, key):
        """To whatever has the focus; \\ue012 and the like are the protocol's own keys."""
        self.ask("POST", self.session + "/actions", {"actions": [{"type": "key", "id": "keys", "actions": [
            {"type": "keyDown", "value": key}, {"type": "keyUp", "value": key}]}]})

    def close(self):
        try:
            self.ask("DELETE", self.session)
        finally:
            self.driver.terminate()
            self.driver.wait()


CHOOSE = "const list = document.getElementById(arguments[0]); list.value = arguments[1]; list.dispatchEvent(new Event('input'));"
NAMES = "return [...document.querySelectorAll('.card .name span')].map(e => e.textContent);"
OPENED = "return document.querySelector('#more .name').textContent;"
COUNT = "return document.getElementById('count').textContent;"


def check(browser, page, downloads):
    browser.open(page.as_uri())
    total = len(browser.run(NAMES))
    assert browser.run(COUNT) == f"{total} of {total} shown, 0 ticked", browser.run(COUNT)
    assert browser.run("return document.getElementById('save').disabled;")
    assert browser.run("return [...document.images].every(i => i.loading === 'lazy' || i.naturalWidth > 0);")

    browser.type("#name", "GANNET")
    names = browser.run(NAMES)
    assert 3 <= len(names) < total, names
    assert browser.run("return [...document.querySelectorAll('.card')].every(c => /gannet/i.test(c.textContent));")
    browser.run(CHOOSE, "kind", "picture")
    browser.run(CHOOSE, "sort", "name")
    names = browser.run(NAMES)
    assert names == sorted(names, key=str.lower), names

    for n in (1, 2, 3):
        browser.click(f".card:nth-child({n}) input[type=checkbox]")
    assert browser.run(COUNT).endswith("3 ticked"), browser.run(COUNT)
    # Ticks outlast filters and the other view.
    browser.run(CHOOSE, "kind", "")
    browser.click("#form")
    assert browser.run("return document.querySelectorAll('table tr.picked').length;") == 3
    browser.run(CHOOSE, "sort", "alike")
    assert browser.run("return document.querySelectorAll('table tr.picked').length;") == 3
    browser.click("#form")
    # One row of tools, and a button that looks like one.
    assert browser.run("return document.querySelector('header').offsetHeight;") < 60
    # A find that is opened is ticked there, and arrows lead on.
    browser.run(CHOOSE, "sort", "name")
    browser.click(".card .view")
    assert browser.run("return document.getElementById('more').open;")
    first = browser.run(OPENED)
    browser.key("\ue014")  # right
    assert browser.run(OPENED) != first
    browser.key(" ")
    assert not browser.run(COUNT).endswith("3 ticked"), browser.run(COUNT)
    browser.click("#more input[type=checkbox]")
    assert browser.run(COUNT).endswith("3 ticked"), browser.run(COUNT)
    browser.key("\ue012")  # left
    assert browser.run(OPENED) == first
    browser.click("#more .close")
    # On the page, too: arrows, space, Enter.
    browser.run("document.querySelector('#grid .card').focus();")
    browser.key("\ue014")
    browser.key(" ")
    browser.key(" ")
    assert browser.run(COUNT).endswith("3 ticked"), browser.run(COUNT)
    browser.key("\ue007")  # Enter
    assert browser.run("return document.getElementById('more').open;")
    browser.click("#more .close")
    # States and volumes are told and chosen by; a document's text is there to be searched.
    browser.run("document.getElementById('name').value = '';" + CHOOSE, "state", "trashed")
    cards = browser.run("return [...document.querySelectorAll('.card')].map(c => c.textContent);")
    assert cards and all("trashed 2026-" in card and "volume 2 OFFICE" in card for card in cards), cards
    assert any("page 1" in card for card in cards)
    browser.run(CHOOSE, "state", "")
    # Made anew, the page keeps what was ticked.
    browser.open(page.as_uri())
    assert browser.run(COUNT).endswith("3 ticked"), browser.run(COUNT)
    browser.click("#save")
    picks = downloads / "picks.csv"
    for _ in range(900):
        if picks.exists() and picks.stat().st_size > 0:
            return names[:3], picks
        time.sleep(0.1)
    raise RuntimeError("the pick list was not downloaded")


def main():
    dredger, packed = sys.argv[1:]
    if shutil.which("chromedriver") is None:
        print("there is no chromedriver")
        return 77
    with tempfile.TemporaryDirectory() as scratch:
        scratch = pathlib.Path(scratch)
        (scratch / "downloads").mkdir()
        subprocess.run(["zstd", "-dqf", "--long=27", packed, "-o", scratch / "drive.img"], check=True)
        for words in (["scan", "drive.img", "-c", "drive.dredge"], ["preview", "drive.dredge", "--to", "look"]):
            subprocess.run([dredger, *words], check=True, cwd=scratch, stdout=subprocess.DEVNULL)
        browser = Browser(scratch / "downloads")
        try:
            names, picks = check(browser, scratch / "look" / "index.html", scratch / "downloads")
        finally:
            browser.close()
        subprocess.run([dredger, "restore", "drive.dredge", "--picks", picks, "--to", "rescue"], check=True, cwd=scratch,
                       stdout=subprocess.DEVNULL)
        restored = sorted(p.name for p in (scratch / "rescue").rglob("*.jpg"))
        assert restored == sorted(names), (restored, names)
    print("ticked, picked and restored:", ", ".join(names))
    return 0


if __name__ == "__main__":
    sys.exit(main())
