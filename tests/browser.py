"""A headless Chromium that opens a page, driven by its own protocol over a socket on this machine."""

import asyncio
import base64
import io
import json
import shutil
import subprocess
import tempfile
import time
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from PIL import Image
from tornado.httpclient import AsyncHTTPClient
from tornado.websocket import websocket_connect

BROWSER = next(filter(None, (shutil.which(name) for name in ("chromium", "chromium-browser", "google-chrome"))), None)
_QUIET = ("--headless", "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update",
          "--disable-sync", "--enable-unsafe-swiftshader", "--remote-debugging-port=0", "--force-device-scale-factor=1")


class Page:
    """One page, and all that it asked for."""

    def __init__(self, socket, loop):
        self._socket, self._loop, self._number = socket, loop, 0
        self.requests, self.errors = [], []

    def do(self, method, **given):
        """Have something done; what it says."""
        self._number += 1
        number = self._number
        self._socket.write_message(json.dumps({"id": number, "method": method, "params": given}))

        async def answer():
            while True:
                said = json.loads(await self._socket.read_message())
                if said.get("method") == "Network.requestWillBeSent":
                    self.requests.append(said["params"]["request"]["url"])
                if said.get("method") == "Runtime.exceptionThrown" or said.get("params", {}).get("entry", {}).get("level") == "error":
                    self.errors.append(said["params"])
                if said.get("id") == number:
                    assert "error" not in said, said
                    return said["result"]

        return self._loop.run_until_complete(asyncio.wait_for(answer(), 60))

    def ask(self, expression):
        """What an expression comes to on the page."""
        return self.do("Runtime.evaluate", expression=expression, returnByValue=True)["result"].get("value")

    def wait(self, expression, seconds=60):
        """Until an expression is true."""
        end = time.monotonic() + seconds
        while not self.ask(expression):
            assert time.monotonic() < end, expression
            time.sleep(0.1)

    def shot(self):
        """What is seen, as pixels (h, w, 3)."""
        raw = base64.b64decode(self.do("Page.captureScreenshot")["data"])
        return np.asarray(Image.open(io.BytesIO(raw)).convert("RGB")).astype(int)

    def drag(self, a, b):
        """Drag with the left button from one place of what is seen to another."""
        middle = (a[0] + b[0]) / 2, (a[1] + b[1]) / 2
        for kind, (x, y), buttons in (("mousePressed", a, 1), ("mouseMoved", middle, 1), ("mouseMoved", b, 1), ("mouseReleased", b, 0)):
            self.do("Input.dispatchMouseEvent", type=kind, x=x, y=y, button="left", buttons=buttons, clickCount=1)


@contextmanager
def opened(path: Path, size=(1200, 900)):
    """A page of a file, with no network that it could need."""
    assert BROWSER is not None, "chromium is needed: ./check installs it"
    loop = asyncio.new_event_loop()
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        process = subprocess.Popen([BROWSER, *_QUIET, f"--user-data-dir={folder}", f"--window-size={size[0]},{size[1]}", "about:blank"],
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            told = Path(folder) / "DevToolsActivePort"
            end = time.monotonic() + 60
            while not (told.exists() and told.read_text().count("\n")):
                assert time.monotonic() < end, "the browser did not start"
                time.sleep(0.05)
            port = told.read_text().split()[0]

            async def connect():
                answer = await AsyncHTTPClient().fetch(f"http://127.0.0.1:{port}/json")
                page = next(p for p in json.loads(answer.body) if p["type"] == "page")
                return await websocket_connect(page["webSocketDebuggerUrl"], max_message_size=200_000_000)

            page = Page(loop.run_until_complete(connect()), loop)
            for part in ("Page", "Runtime", "Network", "Log"):
                page.do(f"{part}.enable")
            page.do("Network.emulateNetworkConditions", offline=True, latency=0, downloadThroughput=0, uploadThroughput=0)
            page.do("Page.navigate", url=path.as_uri())
            page.wait("document.readyState === 'complete' && location.protocol === 'file:'")
            yield page
            page._socket.close()
        finally:
            process.terminate()
            process.wait(20)
            loop.run_until_complete(asyncio.sleep(0))
            loop.close()
