#!/usr/bin/python3
"""How soon the report of a run of 50 signals with a million values each is there in Chromium, without a graphics card.

  report_opens.py PROGRAM [TURNS]

Prints, as Markdown, the median over the turns of the time from the start of the navigation: until the plots of the first
screen are drawn, and until the whole page is read. Exit status 1 if the first is not within a second.
"""

import http.server
import os
import pathlib
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse

UNITS = ["V", "A", "m", "kg", "W", "Hz"]
SIGNALS = 50

TELL = """<script>window.addEventListener("load", function () {
  var drawn = performance.getEntriesByName("plots drawn").pop();
  setTimeout(function () { new Image().src = "http://127.0.0.1:%d/" + Math.round(drawn.startTime) + "/" + Math.round(performance.now()); });
});</script></body>"""


def bench():
    lines = ["bench B {", "  step 1 us", "  record every 1 us"]
    for i in range(SIGNALS):
        u = UNITS[i % len(UNITS)]
        lines.append(f"  let s{i} : {u} = 1 {u} * sin(time * {300 + 50 * i} rad/s) + 0.1 {u} * sin(time * {90000 + 511 * i} rad/s)")
    for f in range(2):
        lines.append(f'  figure f{f} "figure {f}" {{')
        lines += [f"    panel s{i}" for i in range(f * SIGNALS // 2, (f + 1) * SIGNALS // 2)]
        lines.append("  }")
    return "\n".join(lines + ["}", ""])


def main():
    program, turns = str(pathlib.Path(sys.argv[1]).resolve()), int(sys.argv[2]) if len(sys.argv) > 2 else 7
    told = []

    class Told(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            told.append([int(x) for x in urllib.parse.urlparse(self.path).path.strip("/").split("/")])
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Told)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with tempfile.TemporaryDirectory() as folder:
        (pathlib.Path(folder) / "b.dyne").write_text(bench())
        subprocess.run([program, "run", "b.dyne", "--for", "1 s", "--out", "run"], cwd=folder, check=True,
                       stdout=subprocess.DEVNULL, env={**os.environ, "XDG_DATA_HOME": folder})
        page = pathlib.Path(folder) / "run" / "report.html"
        text = page.read_text(encoding="utf-8")
        page.write_text(text.replace("</body>", TELL % server.server_address[1]), encoding="utf-8")
        for _ in range(turns):
            before = len(told)
            browser = subprocess.Popen(
                ["chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--window-size=1280,800",
                 "--remote-debugging-port=0", f"--user-data-dir={folder}/profile", f"file://{page}"],
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            until = time.time() + 60
            while len(told) == before and time.time() < until:
                time.sleep(0.02)
            browser.terminate()
            browser.wait()
    if len(told) < turns:
        sys.exit("the browser did not tell")
    drawn, read = (statistics.median(t[k] for t in told) / 1000 for k in (0, 1))
    print("| work | reached | bound |\n|---|---|---|")
    print(f"| report of {SIGNALS} × 1,000,000 values ({len(text) / 1e6:.1f} MB): plots drawn | {drawn:.2f} s | 1 s |"
          f"{'' if drawn <= 1 else ' **missed**'}")
    print(f"| the same, the whole page read | {read:.2f} s | |")
    sys.exit(drawn > 1)


main()
