#!/usr/bin/python3
"""Opens report pages in headless Chromium, as their readers do, and holds them against the case.

    page_check.py TOOL CASE...     prints what is wrong; status 1 when anything is
    page_check.py --shot PAGE PNG WIDTH HEIGHT [dark]

Drives the browser over the WebDriver protocol (W3C) with nothing but the standard library. Every
figure of a page is compared with what is read here from the case's own files, not with what the
tool says of them.
"""
import base64
import json
import os
import pathlib
import re
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request


class Browser:
    def __init__(self):
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self.base = f"http://127.0.0.1:{port}"
        self.profile = tempfile.TemporaryDirectory()
        self.driver = subprocess.Popen(["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL,
                                       stderr=subprocess.DEVNULL)
        options = {"args": ["--headless=new", "--no-sandbox", "--disable-gpu",
                            "--disable-dev-shm-usage", f"--user-data-dir={self.profile.name}"]}
        wanted = {"capabilities": {"alwaysMatch": {
            "goog:chromeOptions": options, "goog:loggingPrefs": {"browser": "ALL"}}}}
        for attempt in range(100):
            try:
                self.session = self.call("POST", "/session", wanted)["sessionId"]
                return
            except urllib.error.URLError:
                time.sleep(0.1)
        raise SystemExit("the browser does not start")

    def call(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"},
                                         method=method)
        with urllib.request.urlopen(request, timeout=120) as answer:
            return json.load(answer)["value"]

    def do(self, path, body):
        return self.call("POST", f"/session/{self.session}{path}", body)

    def chrome(self, command, **parameters):
        return self.do("/goog/cdp/execute", {"cmd": command, "params": parameters})

    def script(self, text):
        return self.do("/execute/sync", {"script": text, "args": []})

    def open(self, page, width, height, dark=False):
        self.chrome("Emulation.setDeviceMetricsOverride", width=width, height=height,
                    deviceScaleFactor=1, mobile=width < 600)
        self.chrome("Emulation.setEmulatedMedia", media="screen", features=[
            {"name": "prefers-color-scheme", "value": "dark" if dark else "light"}])
        self.do("/url", {"url": pathlib.Path(page).resolve().as_uri()})

    def console(self):
        return [line["message"] for line in self.do("/se/log", {"type": "browser"})]

    def close(self):
        try:
            self.call("DELETE", f"/session/{self.session}")
        finally:
            self.driver.terminate()
            self.driver.wait()
            self.profile.cleanup()


def manifest_totals(path):
    """Counted from the lines themselves; the seal is the one that the file closes with."""
    out = {"files": 0, "folders": 0, "bytes": 0, "unreadable": 0, "left-out": 0, "ranges": 0, "seal": None}
    for line in pathlib.Path(path).read_text().splitlines():
        entry = json.loads(line)
        if "sha256" in entry and "path" in entry:
            out["files"] += 1
            out["bytes"] += entry["size"]
            out["unreadable"] += "unreadable" in entry
        elif entry.get("directory"):
            out["folders"] += 1
        elif "range" in entry:
            out["ranges"] += 1
            out["left-out"] += "fault" in entry
        elif "reason" in entry:
            out["left-out"] += 1
        elif "seal" in entry:
            out["seal"] = entry["seal"]
    return out


def unchanged(case):
    """Files of both manifests by partition, path and hash (or size, by places), and their bytes: the
    paths that a job is to change are in its plan."""
    plan = json.loads((case / "assessment.json").read_text())
    planned = {(c["partition"], c["path"]) for c in plan["changes"] if c.get("path")}

    def files(name, layout):
        ids = {p["start"]: p["id"] for p in plan[layout]["partitions"] if p["role"] != "extended"}
        out, partition, places = {}, 0, False
        for line in (case / name).read_text().splitlines():
            entry = json.loads(line)
            places |= entry.get("proof") == "places"
            if "volume" in entry:
                partition = ids.get(entry["start"], 0)
            elif "size" in entry and "path" in entry:
                out[partition, entry["path"]] = (entry["size"], None if places else entry["sha256"])
        return out
    before, after = files("before.manifest", "before"), files("after.manifest", "after")
    same = [key for key, value in after.items() if before.get(key) == value and key not in planned]
    return len(same), sum(after[key][0] for key in same)


def journal_ranges(path):
    """Sectors of every undo record, from docs/formats/undo-journal.md."""
    data = pathlib.Path(path).read_bytes()
    at, sectors = 32, set()
    while at + 56 <= len(data):
        magic = int.from_bytes(data[at:at + 4], "little")
        count = int.from_bytes(data[at + 12:at + 16], "little")
        lba = int.from_bytes(data[at + 16:at + 24], "little")
        payload = int.from_bytes(data[at + 40:at + 48], "little")
        if magic != 0x43455221:
            break
        if data[at + 4] == 1 and data[at + 7] == 0:  # neighbours stay as they are
            sectors.update(range(lba, lba + count))
        at += 56 + payload
    return len(sectors)


def expected_claims(case):
    case = pathlib.Path(case)
    assessment = json.loads((case / "assessment.json").read_text())
    layout = assessment["before"]
    out = {"disk-sectors": layout["disk_sectors"],
           "disk-bytes": layout["disk_sectors"] * layout["sector_size"],
           "tag-before": assessment["tag"]}
    for side in ("before", "after"):
        file = case / f"{side}.manifest"
        if file.exists():
            for key, value in manifest_totals(file).items():
                out[f"{key}-{side}"] = value
    if "files-after" in out:
        out["files"], out["bytes"] = unchanged(case)
    if (case / "undo.journal").exists():
        out["journal"] = (case / "undo.journal").stat().st_size
        out["sectors-written"] = journal_ranges(case / "undo.journal")
    if (case / "result.json").exists():
        out["tag-after"] = json.loads((case / "result.json").read_text())["tag_after"]
    return out, assessment


CONTRAST = r"""
const channel = c => { c /= 255; return c <= 0.03928 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4; };
const light = c => 0.2126 * channel(c[0]) + 0.7152 * channel(c[1]) + 0.0722 * channel(c[2]);
const numbers = text => text.match(/[\d.]+/g).map(Number);
const ground = e => { for (; e; e = e.parentElement) {
  const c = numbers(getComputedStyle(e).backgroundColor); if (c.length < 4 || c[3] > 0) return c; }
  return [255, 255, 255]; };
const poor = [];
for (const e of document.querySelectorAll('body *')) {
  if (e.closest('svg')) continue;
  const own = [...e.childNodes].some(n => n.nodeType === 3 && n.textContent.trim());
  if (!own) continue;
  const a = light(numbers(getComputedStyle(e).color)), b = light(ground(e));
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
  if (ratio < 4.5) poor.push(e.tagName + '.' + e.className + ' ' + ratio.toFixed(2));
}
return poor;
"""


def look(browser, page):
    """Width, contrast and console in both widths and both colour schemes."""
    wrong = []
    for width in (1280, 390):
        for dark in (False, True):
            browser.open(page, width, 800, dark)
            over = browser.script("return document.documentElement.scrollWidth") - width
            if over > 0:
                wrong.append(f"{over} px too wide at {width}")
            poor = browser.script(CONTRAST)
            if poor:
                wrong.append(f"poor contrast, {'dark' if dark else 'light'}: {poor[:5]}")
    return wrong + browser.console()


def sees_a_bad_page(browser):
    """The eyes are no good unless they see what is wrong with this one."""
    with tempfile.NamedTemporaryFile("w", suffix=".html") as page:
        page.write("<!doctype html><html lang=en><meta name=viewport content=width=device-width>"
                   "<body style='background:#fff'><p style='color:#ccc;width:90rem'>pale and wide</p>"
                   "<script>undefined_function()</script></body></html>")
        page.flush()
        wrong = " ".join(look(browser, page.name))
    return all(word in wrong for word in ("too wide at 1280", "too wide at 390", "poor contrast",
                                          "undefined_function"))


def check(browser, tool, case):
    page = tempfile.NamedTemporaryFile(suffix=".html")
    subprocess.run([tool, "report", case, "--overwrite", "-o", page.name], check=True, stdout=subprocess.DEVNULL,
                   stderr=subprocess.DEVNULL)
    record = json.loads(subprocess.run([tool, "report", case, "--json"], check=True,
                                       capture_output=True).stdout)
    source = pathlib.Path(page.name).read_text()
    wrong = []
    if re.search(r"<script|https?://|url\(|@import|src=", source):
        wrong.append("the page wants something from elsewhere, or a script")
    wrong += look(browser, page.name)
    claims = browser.script(
        "return [...document.querySelectorAll('[data-claim]')].map(e => "
        "[e.dataset.claim, e.dataset.value, e.textContent])")
    expected, assessment = expected_claims(case)
    if len(claims) < 3:
        wrong.append("hardly a figure on the page")
    for name, value, shown in claims:
        if name == "ranges-written":
            good = len(record["written"])
        elif name == "differences":
            good = record["difference_count"]
        elif name not in expected:
            wrong.append(f"the case knows nothing of {name}")
            continue
        else:
            good = expected[name]
        if str(good) != value:
            wrong.append(f"{name}: the page says {value}, the case {good}")
        plain = shown.replace(",", "")
        if plain != value and not re.fullmatch(r"[\d.]+ ([KMGT]i)?B|\d+ bytes", plain):
            wrong.append(f"{name}: shows {shown} for {value}")
    attributes = lambda key: browser.script(
        f"return [...document.querySelectorAll('[data-{key}]')].map(e => e.dataset.{key})")
    outcome = attributes("outcome")
    if outcome != [record["verdict"]]:
        wrong.append(f"outcome {outcome}, the case says {record['verdict']}")
    if attributes("obstacle") != [o["code"] for o in assessment["obstacles"]]:
        wrong.append("obstacles differ")
    if assessment["in_reach"] and attributes("consent") != [c["code"] for c in assessment["consents"]]:
        wrong.append("consents differ")
    if attributes("next") != [n["code"] for n in record["next"]]:
        wrong.append("next steps differ")
    rows = browser.script("return document.querySelectorAll('#sectors tbody tr').length")
    if rows != min(len(record["written"]), 4000):
        wrong.append(f"{rows} rows for {len(record['written'])} ranges")
    structure = browser.script(
        "const ids = [...document.querySelectorAll('[id]')].map(e => e.id);"
        "const unnamed = [...document.querySelectorAll('[role=img],[role=region],section')]"
        ".filter(e => !e.getAttribute('aria-label') && !e.getAttribute('aria-labelledby'));"
        "return [document.documentElement.lang, document.querySelectorAll('h1').length,"
        "ids.length - new Set(ids).size, unnamed.length,"
        "document.querySelectorAll('table').length - document.querySelectorAll('caption').length,"
        "document.querySelectorAll('main').length]")
    if structure != ["en", 1, 0, 0, 0, 1]:
        wrong.append(f"structure for screen readers: {structure}")
    paper = browser.chrome("Page.printToPDF", preferCSSPageSize=True)["data"]
    if base64.b64decode(paper)[:5] != b"%PDF-":
        wrong.append("it does not print")
    return wrong, len(claims)


def main():
    browser = Browser()
    try:
        if sys.argv[1] == "--shot":
            page, png, width, height = sys.argv[2:6]
            browser.open(page, int(width), int(height), "dark" in sys.argv[6:])
            for word in sys.argv[6:]:
                if word.startswith("#"):
                    browser.script(f"document.querySelector('{word}').scrollIntoView()")
            picture = browser.chrome("Page.captureScreenshot", format="png")["data"]
            pathlib.Path(png).write_bytes(base64.b64decode(picture))
            return 0
        status, claims = 0, 0
        if not sees_a_bad_page(browser):
            print("a bad page goes unseen: nothing that follows counts")
            status = 1
        for case in sys.argv[2:]:
            wrong, count = check(browser, sys.argv[1], case)
            claims += count
            for line in wrong:
                print(f"{os.path.basename(case)}: {line}")
                status = 1
        print(f"{len(sys.argv) - 2} pages, {claims} figures held against their cases")
        return status
    finally:
        browser.close()


sys.exit(main())
