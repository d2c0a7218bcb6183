"""One capture that is open: its recording, what stands of it, and the line to its device while there is one.

All that the device says is written down before it counts. A line that is lost is tried again until it stands; what was
captured meanwhile is asked for then.
"""

from __future__ import annotations

import queue
import socket
import threading
import time
from typing import Any

from deftmason.core.capture.recorded import Recording, records_of
from deftmason.core.capture.state import CaptureState
from deftmason.core.capture.words import SPEAKS, line_of, read_line
from deftmason.core.errors import BadInput, DeviceGone

__all__ = ["Link"]

_PATIENCE = 20.0  # seconds an answer may take
_TRY_AGAIN = 0.7  # seconds between tries of a line that was lost
_GIVE_UP = 900.0  # seconds of trying
_ASK_AGAIN = 0.3  # seconds between questions for what goes on at the device after the line was lost
_CONNECT = 5.0


class Link:
    """``device``: 'none', 'there', 'lost'; ``busy``: '', 'sweeping', 'paused'; ``says``: what happened last."""

    def __init__(self, path: str):
        self.lock = threading.RLock()
        self.state = CaptureState()
        self.device, self.busy, self.says, self.address = "none", "", "", ""
        self.about: dict[str, Any] = {}
        self.used = time.monotonic()
        for record in records_of(path):
            self._take(record)
        self.recording = Recording(path)
        self._answers: queue.Queue[dict[str, Any]] = queue.Queue()
        self._turn = threading.Lock()
        self._socket: socket.socket | None = None
        self._closing = threading.Event()
        self._ready = threading.Event()
        self._thread: threading.Thread | None = None

    def _take(self, record: dict[str, Any]) -> bool:
        try:
            with self.lock:
                return self.state.take(record)
        except (KeyError, IndexError, TypeError, ValueError, BadInput):
            return False

    def did(self, record: dict[str, Any]) -> None:
        """Write down what the person did, and do it."""
        with self.lock:
            self.recording.add(record)
            self.recording.keep()
            self.state.take(record)

    # The line.

    def connect(self, address: tuple[str, int]) -> None:
        """Open the line. Raises `DeviceGone` where nobody listens, or who does speaks otherwise."""
        self.hang_up()
        self._closing.clear()
        self._ready.clear()
        self.address = f"{address[0]}:{address[1]}"
        try:
            self._socket = socket.create_connection(address, _CONNECT)
        except OSError as e:
            raise DeviceGone(
                f"No device listens at {self.address} ({e.strerror or 'no answer'}); start it, or look at its address."
            ) from None
        self._thread = threading.Thread(target=self._keep_reading, args=(address,), daemon=True)
        self._thread.start()
        if not self._ready.wait(_CONNECT):
            self.hang_up()
            raise DeviceGone(f"What listens at {self.address} is no capture device that speaks this protocol.")
        self.did({"did": "visit", "device": self.about.get("device", ""), "at": time.strftime("%Y-%m-%dT%H:%M:%SZ")})

    def hang_up(self) -> None:
        """Close the line; the capture stays open."""
        self._closing.set()
        if self._socket is not None:
            with _quiet():
                self._socket.shutdown(socket.SHUT_RDWR)
            self._socket.close()
        thread, self._thread = self._thread, None
        if thread is not None and thread is not threading.current_thread():
            thread.join(3)
        self.device, self.busy = "none", ""

    def close(self) -> None:
        self.hang_up()
        with self.lock:
            self.recording.close()

    def _keep_reading(self, address: tuple[str, int]) -> None:
        while not self._closing.is_set():
            self._read_all()
            if self._closing.is_set():
                return
            if not self._ready.is_set():
                return  # never met: whoever asked is told
            self.device, self.says = "lost", "The line is lost; trying again. Nothing that came is lost."
            self._answers.put({"say": "lost"})
            if not self._found_again(address):
                self.device, self.busy = "none", ""
                self.says = "The device did not come back; connect again when it listens."
                return

    def _found_again(self, address: tuple[str, int]) -> bool:
        until = time.monotonic() + _GIVE_UP
        while time.monotonic() < until and not self._closing.wait(_TRY_AGAIN):
            try:
                self._socket = socket.create_connection(address, _CONNECT)
                return True
            except OSError:
                continue
        return False

    def _read_all(self) -> None:
        line = self._socket
        assert line is not None
        line.settimeout(None)
        kept = time.monotonic()
        with _quiet(), line.makefile("rb") as stream:
            self._send({"ask": "hello"})
            while (record := read_line(stream)) is not None:
                self._heard(record)
                if time.monotonic() - kept > 1:
                    self.recording.keep()
                    kept = time.monotonic()

    def _heard(self, record: dict[str, Any]) -> None:
        says = record.get("say")
        if says in ("touched", "points", "hello"):
            if says == "hello" and record.get("speaks") != SPEAKS:
                return
            known = self.state.life == record.get("life", "")
            with self.lock:
                if not ("seq" in record and record["seq"] <= self.state.seq):
                    self.recording.add(record)
                    self._take(record)
            if says == "hello":
                self.about, self.device = record, "there"
                if self._ready.is_set():
                    self.says = "The line stands again."
                    if known:
                        self._send({"ask": "again", "after": self.state.seq})
                    else:
                        self.busy = ""
                        self.says = "The device was started anew; what it had not sent is gone, what came is here."
                self._ready.set()
            elif says == "touched":
                self._answers.put(record)
        elif says == "caught up":
            if record.get("lost"):
                self.says = f"{record['lost']:,} answers were too old for the device to send again."
            if record.get("busy"):
                threading.Timer(_ASK_AGAIN, self._send, [{"ask": "again", "after": self.state.seq}]).start()
            else:
                self.busy = ""
        elif says in ("swept", "turned"):
            self.busy = ""
            self.says = "" if record.get("whole") else "Stopped before its end."
        else:
            if says == "refused" and self.busy:
                self.busy, self.says = "", _refusal(record)
            self._answers.put(record)

    def _send(self, record: dict[str, Any]) -> None:
        try:
            assert self._socket is not None
            self._socket.sendall(line_of(record))
        except OSError:
            self.device = "lost" if self.device == "there" else self.device

    # What is asked of the device.

    def _there(self) -> None:
        if self.device != "there":
            lost = "The line to the device is lost; wait until it stands again, or connect anew."
            raise DeviceGone(lost if self.device == "lost" else "No device is connected; connect one first.")

    def ask(self, record: dict[str, Any]) -> dict[str, Any]:
        """An answer to one question. Raises `DeviceGone` where none comes."""
        self._there()
        if self.busy:
            raise BadInput("The device is scanning; stop it first.", field="ask")
        with self._turn:
            while not self._answers.empty():
                self._answers.get_nowait()
            self._send(record)
            try:
                answer = self._answers.get(timeout=_PATIENCE)
            except queue.Empty:
                raise DeviceGone("The device did not answer; look whether it is on, and ask again.") from None
        if answer["say"] == "lost":
            raise DeviceGone("The line was lost before the device answered; ask again when it stands.")
        if answer["say"] == "refused":
            raise BadInput(_refusal(answer), field="ask")
        return answer

    def stream(self, record: dict[str, Any]) -> None:
        """Let the device begin to stream; returns at once."""
        self._there()
        if self.busy:
            raise BadInput("The device is scanning already; stop it first.", field="ask")
        self.busy, self.says = "sweeping", ""
        self._send(record)

    def control(self, what: str) -> None:
        """Pause, resume or stop what streams."""
        self._there()
        if not self.busy:
            return
        self._send({"ask": what})
        self.busy = {"pause": "paused", "resume": "sweeping"}.get(what, self.busy)


def _refusal(record: dict[str, Any]) -> str:
    return f"The device refused: {str(record.get('why', ''))[:120]}."


class _quiet:
    """A line that breaks is told by its ending."""

    def __enter__(self):
        return self

    def __exit__(self, kind, error, trace) -> bool:
        return kind is not None and issubclass(kind, (OSError, ValueError))
