"""A stand-in for another CAD system: takes a model's history feature by feature and rebuilds each on its own.

It listens on this machine only, speaks one JSON record a line, and serves one sender that knows its token:

- ``{"begin": {"token", "preamble", "numbers": [lines]}}`` answers ``{"state": "ready"}``;
- ``{"feature": {"id", "name", "kind", "lines", "makes"}}`` builds it and answers ``{"state": "built", "volume", "area",
  "seconds"}`` (a drawing has no volume), ``{"state": "unknown"}`` for a kind it was told not to know, or ``{"state":
  "failed", "why"}``;
- ``{"shape": {"makes", "brep"}}`` takes a body as it is (binary B-rep, packed as the scripts have it);
- ``{"skip": {"makes", "rests"}}`` lets what was before stand in;
- ``{"elements": {"step"}}`` takes datums and drawings (STEP, base64) and answers with their count;
- ``{"unknown": [kinds]}`` tells it what it does not know from now on; ``{"end": true}`` ends it.
"""

from __future__ import annotations

import argparse
import base64
import json
import os
import socketserver
import tempfile
import threading
import time
from typing import Any

__all__ = ["Builder", "serve"]

_IDLE = 1800.0  # seconds without a word, and it ends


class Builder:
    """The model as the other side has it: what was built so far, by its variable."""

    def __init__(self, unknown: list[str]):
        self.unknown = set(unknown)
        self.world: dict[str, Any] = {}

    def begin(self, preamble: str, numbers: list[str]) -> dict[str, Any]:
        self.world = {"__name__": "received"}
        exec(compile(preamble, "preamble", "exec"), self.world)  # the sender's own script, on this machine
        exec(compile("\n".join(numbers), "numbers", "exec"), self.world)
        return {"state": "ready"}

    def feature(self, kind: str, lines: list[str], makes: str | None) -> dict[str, Any]:
        if kind in self.unknown:
            return {"state": "unknown"}
        begin = time.perf_counter()
        try:
            exec(compile("\n".join(lines), kind, "exec"), self.world)
        except Exception as e:
            return {"state": "failed", "why": f"{type(e).__name__}: {e}"[:300]}
        return {"state": "built", "seconds": time.perf_counter() - begin, **self._measured(makes)}

    def shape(self, makes: str, brep: str) -> dict[str, Any]:
        self.world[makes] = self.world["shape_of"](brep)
        return {"state": "as shape", **self._measured(makes)}

    def skip(self, makes: str | None, rests: str | None) -> dict[str, Any]:
        if makes is not None and rests in self.world:
            self.world[makes] = self.world[rests]
        return {"state": "skipped", **self._measured(makes if makes in self.world else None)}

    def elements(self, step: str) -> dict[str, Any]:
        with tempfile.TemporaryDirectory() as folder:
            path = os.path.join(folder, "elements.step")
            with open(path, "wb") as f:
                f.write(base64.b64decode(step))
            taken = self.world["import_step"](path)
        self.world.setdefault("elements", []).append(taken)
        return {"state": "taken", "faces": len(taken.faces()), "edges": len(taken.edges())}

    def _measured(self, makes: str | None) -> dict[str, Any]:
        if makes is None:
            return {}
        body = self.world[makes]
        return {"volume": float(body.volume), "area": float(body.area)}


class _Line(socketserver.StreamRequestHandler):
    """One sender: a record a line in, a record a line out."""

    server: _Server

    def handle(self) -> None:
        known = False
        for line in self.rfile:
            self.server.heard = time.monotonic()
            try:
                said = json.loads(line)
            except ValueError:
                return
            if "begin" in said:
                known = said["begin"].get("token") == self.server.token
            if not known:
                return
            if "end" in said:
                threading.Thread(target=self.server.shutdown, daemon=True).start()
                return
            self.wfile.write(json.dumps(self._answer(said)).encode() + b"\n")

    def _answer(self, said: dict[str, Any]) -> dict[str, Any]:
        b = self.server.builder
        if "begin" in said:
            return b.begin(said["begin"]["preamble"], said["begin"]["numbers"])
        if "feature" in said:
            f = said["feature"]
            return b.feature(f["kind"], f["lines"], f.get("makes"))
        if "shape" in said:
            return b.shape(said["shape"]["makes"], said["shape"]["brep"])
        if "skip" in said:
            return b.skip(said["skip"].get("makes"), said["skip"].get("rests"))
        if "elements" in said:
            return b.elements(said["elements"]["step"])
        if "unknown" in said:
            b.unknown = set(said["unknown"])
            return {"state": "told"}
        return {"state": "failed", "why": "not understood"}


class _Server(socketserver.TCPServer):
    allow_reuse_address = True

    def __init__(self, port: int, token: str, unknown: list[str]):
        super().__init__(("127.0.0.1", port), _Line)
        self.token, self.builder, self.heard = token, Builder(unknown), time.monotonic()

    def service_actions(self) -> None:
        if time.monotonic() - self.heard > _IDLE:
            threading.Thread(target=self.shutdown, daemon=True).start()


def serve(port: int, token: str, unknown: list[str]) -> None:
    """Listen on a port of this machine (0: any), say which on standard output, and serve until told to end."""
    with _Server(port, token, unknown) as server:
        print(server.server_address[1], flush=True)
        server.serve_forever(poll_interval=0.2)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description="A stand-in for another CAD system.")
    parser.add_argument("--port", type=int, default=0)
    parser.add_argument("--unknown", default="", help="Kinds of features it does not know, parted by commas.")
    given = parser.parse_args()
    serve(given.port, os.environ.get("MASON_RECEIVER_TOKEN", ""), [k for k in given.unknown.split(",") if k])
