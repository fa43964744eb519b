"""A page in a real browser: headless Chromium."""

from __future__ import annotations

import html
import json
import os
import re
import shutil
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

BROWSER = shutil.which("chromium")
_MEASURES = """
<!doctype html><body><iframe id="page" style="border: 0; width: {width}px; height: 900px" srcdoc="{page}"></iframe>
<pre id="told"></pre><script>
addEventListener("load", () => {{
  const inner = document.getElementById("page").contentDocument;
  const wide = [...inner.querySelectorAll("body *:not(svg *)")].filter(one => one.getBoundingClientRect().right > {width} + 1);
  document.getElementById("told").textContent = JSON.stringify({{
    width: inner.documentElement.scrollWidth,
    wide: wide.map(one => one.tagName + " " + one.textContent.slice(0, 40)),
    headings: [...inner.querySelectorAll("h1, h2")].map(one => one.textContent),
    text: inner.body.innerText,
    rows: [...inner.querySelectorAll(".counts tbody tr")].map(
      row => [...row.children].map(cell => cell.textContent.trim())),
  }});
}});
</script></body>
"""


def measured(page: str, width: int, folder: Path) -> dict[str, Any]:
    """What stands in a page that is so many pixels wide, and what juts out."""
    around = folder / "around.html"
    around.write_text(
        _MEASURES.format(width=width, page=html.escape(page)), encoding="utf-8"
    )
    dom = run(folder, "--dump-dom", around.as_uri()).stdout
    told = re.search(r'<pre id="told">(.*?)</pre>', dom, re.DOTALL)
    assert told is not None
    found: dict[str, Any] = json.loads(html.unescape(told[1]))
    return found


def run(folder: Path, *arguments: str) -> subprocess.CompletedProcess[str]:
    """Chromium, with a new profile; what the console has to say goes to standard error."""
    assert BROWSER is not None
    quiet = [
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
    ]
    flags = [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--hide-scrollbars",
        *quiet,
        "--enable-logging=stderr",
        "--virtual-time-budget=5000",
    ]
    profile = f"--user-data-dir={folder / 'profile'}"
    environment = {**os.environ, "HOME": str(folder)}
    command = [BROWSER, *flags, profile, "--window-size=1600,1000", *arguments]
    return subprocess.run(
        command,
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
        env=environment,
    )


@contextmanager
def served(page: bytes) -> Iterator[tuple[str, list[str]]]:
    """A page on the loopback interface: its address, and the paths that are asked for."""
    asked: list[str] = []

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            self.send_response(200)
            self.send_header("Content-Type", "text/html; charset=utf-8")
            self.end_headers()
            self.wfile.write(page)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/page.html", asked
    finally:
        server.shutdown()
        thread.join()
        server.server_close()
