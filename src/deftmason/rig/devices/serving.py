"""A device that listens: one speaker at a time, requests answered in turn, a stream that can be paused, stopped, and
asked for again after the line was lost.
"""

from __future__ import annotations

import queue
import secrets
import socket
import socketserver
import threading
from collections import deque
from collections.abc import Callable, Iterator
from typing import Any

from ...core.capture.words import SPEAKS, line_of, read_line

__all__ = ["Device", "listen"]

_HELD = 4000  # answers with what was captured that can be asked for again


class Device:
    """Base of all devices. Subclasses say what they are (`about`) and answer requests (`asked`), one record or many."""

    kind = ""

    def __init__(self) -> None:
        self.seq = 0
        self.life = secrets.token_hex(8)  # of this process: numbers of another are none of its own
        self._held: deque[dict[str, Any]] = deque(maxlen=_HELD)
        self.busy = 0  # requests that are being answered, whoever asked
        self.going = threading.Event()  # cleared while paused
        self.going.set()
        self.stopped = threading.Event()

    def about(self) -> dict[str, Any]:
        raise NotImplementedError

    def asked(self, request: dict[str, Any]) -> Iterator[dict[str, Any]]:
        raise NotImplementedError

    def captured(self, record: dict[str, Any]) -> dict[str, Any]:
        """An answer with something captured: numbered, and held for whoever lost it."""
        self.seq += 1
        record["seq"] = self.seq
        self._held.append(record)
        return record

    def answers(self, request: dict[str, Any]) -> Iterator[dict[str, Any]]:
        what = request.get("ask")
        if what == "hello":
            yield {
                "say": "hello",
                "speaks": SPEAKS,
                "device": self.kind,
                "last": self.seq,
                "life": self.life,
                **self.about(),
            }
        elif what == "again":
            after = int(request.get("after", 0))
            held = [r for r in list(self._held) if r["seq"] > after]
            lost = self.seq - after - len(held)
            yield from held
            yield {"say": "caught up", "lost": max(lost, 0), "busy": self.busy > 0}
        else:
            self.busy += 1
            try:
                yield from self.asked(request)
            except (KeyError, TypeError, ValueError) as e:
                yield {"say": "refused", "why": f"{what} was not asked as it is spoken ({type(e).__name__})"}
            finally:
                self.busy -= 1


class _Speaker(socketserver.BaseRequestHandler):
    """One connection: requests are read as they come, so that pause and stop are heard while something streams."""

    server: _Listening

    def handle(self) -> None:
        device, gone = self.server.device, threading.Event()
        self.request.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        requests: queue.Queue[dict[str, Any] | None] = queue.Queue()
        threading.Thread(target=self._read, args=(requests, gone), daemon=True).start()
        device.going.set()
        while (request := requests.get()) is not None:
            device.stopped.clear()
            for answer in device.answers(request):
                if gone.is_set():
                    continue  # what is captured goes on and is held: nothing taken is lost
                try:
                    self.request.sendall(line_of(answer))
                except OSError:
                    gone.set()

    def _read(self, requests, gone: threading.Event) -> None:
        device = self.server.device
        with self.request.makefile("rb") as stream:
            while True:
                try:
                    request = read_line(stream)
                except (OSError, ValueError):
                    request = None
                if request is None:
                    gone.set()
                    device.going.set()
                    requests.put(None)
                    return
                control: dict[str, Callable[[], None]] = {
                    "pause": device.going.clear, "resume": device.going.set, "stop": device.stopped.set,
                }  # fmt: skip
                act = control.get(str(request.get("ask")))
                if act is None:
                    requests.put(request)
                    continue
                act()
                if request["ask"] == "stop":
                    device.going.set()


class _Listening(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, port: int, device: Device):
        super().__init__(("127.0.0.1", port), _Speaker)
        self.device = device


def listen(device: Device, port: int) -> None:
    """Serve one device on this machine until the process is ended."""
    with _Listening(port, device) as server:
        print(f"{device.kind} listens at 127.0.0.1:{server.server_address[1]}", flush=True)
        server.serve_forever(poll_interval=0.1)
