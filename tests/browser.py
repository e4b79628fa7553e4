"""A browser without a window, told what to do over pipes by its own protocol."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SERVERS_REQUIRED

PROGRAMS = ("chromium", "chromium-browser", "google-chrome")


class Browser:
    """One page at a time. `said` is what it wrote to its console, and what went wrong in it."""

    def __init__(self) -> None:
        program = next((found for name in PROGRAMS if (found := shutil.which(name))), None)
        if program is None:
            if SERVERS_REQUIRED:
                pytest.fail("no browser chromium is installed")
            pytest.skip("no browser chromium is installed")
        self.said: list[str] = []
        self._number, self._session = 0, ""
        self._home = tempfile.mkdtemp()
        read, self._to = os.pipe()
        self._from, write = os.pipe()
        words = f"--headless --no-sandbox --disable-gpu --user-data-dir={self._home}"
        self._process = subprocess.Popen(
            ["bash", "-c", f"exec {program} {words} --remote-debugging-pipe 3<&{read} 4>&{write}"],
            pass_fds=(read, write), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        os.close(read)
        os.close(write)
        self._rest = b""

    def close(self) -> None:
        """Ends it."""
        self._process.kill()
        self._process.wait()
        os.close(self._to)
        os.close(self._from)
        shutil.rmtree(self._home, ignore_errors=True)

    def open(self, path: Path, width: int, height: int = 800, scheme: str = "light") -> None:
        """Opens a file in a window of a size, for light or dark."""
        target = self._call("Target.createTarget", url="about:blank")["targetId"]
        self._session = ""
        attached = self._call("Target.attachToTarget", targetId=target, flatten=True)
        self._session = attached["sessionId"]
        for domain in ("Page", "Runtime", "Log"):
            self._call(f"{domain}.enable")
        self._call("Emulation.setDeviceMetricsOverride", width=width, height=height,
                   deviceScaleFactor=1, mobile=False)  # fmt: skip
        self._call("Emulation.setEmulatedMedia",
                   features=[{"name": "prefers-color-scheme", "value": scheme}])  # fmt: skip
        self._call("Page.navigate", url=path.resolve().as_uri())
        until = "new Promise(done => document.readyState === 'complete' ? done(1)"
        self.run(f"{until} : addEventListener('load', () => done(1)))")

    def run(self, script: str) -> Any:
        """What an expression comes to in the page."""
        told = self._call(
            "Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True
        )
        assert "exceptionDetails" not in told, told["exceptionDetails"]
        return told["result"].get("value")

    def press(self, key: str, text: str = "") -> None:
        """Presses a key where the page's focus is."""
        self._call("Input.dispatchKeyEvent", type="keyDown", key=key, code=key, text=text,
                   windowsVirtualKeyCode={"Enter": 13, "Tab": 9}.get(key, 0))  # fmt: skip
        self._call("Input.dispatchKeyEvent", type="keyUp", key=key, code=key)

    def type(self, text: str) -> None:
        """Types text where the page's focus is."""
        self._call("Input.insertText", text=text)

    def _call(self, method: str, **parameters: Any) -> dict[str, Any]:
        self._number += 1
        message = {"id": self._number, "method": method, "params": parameters}
        if self._session:
            message["sessionId"] = self._session
        os.write(self._to, json.dumps(message).encode() + b"\0")
        while True:
            answer = self._next()
            if answer.get("id") == self._number:
                assert "error" not in answer, answer
                return dict(answer["result"])
            if answer.get("method") in ("Runtime.consoleAPICalled", "Runtime.exceptionThrown",
                                        "Log.entryAdded"):  # fmt: skip
                self.said.append(json.dumps(answer["params"]))

    def _next(self) -> dict[str, Any]:
        while b"\0" not in self._rest:
            block = os.read(self._from, 1 << 16)
            assert block, "the browser has ended"
            self._rest += block
        line, _, self._rest = self._rest.partition(b"\0")
        return dict(json.loads(line))
