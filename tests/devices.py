"""Capture devices as processes of their own, and a line to them that can be cut."""

import contextlib
import socket
import subprocess
import sys
import threading


@contextlib.contextmanager
def started(kind, part, *more):
    """A device with a part under it; its port."""
    command = [sys.executable, "-m", "deftmason.demo.devices", kind, "--part", part, *more]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        yield int(process.stdout.readline().rsplit(":", 1)[1])
    finally:
        process.kill()
        process.wait()
        process.stdout.close()


class Cuttable:
    """Passes a line on to a device until it is cut; while `open` is cleared it takes no new one."""

    def __init__(self, port):
        self.target = port
        self.open = threading.Event()
        self.open.set()
        self._pairs = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self):
        with contextlib.suppress(OSError):
            while True:
                near, _ = self._server.accept()
                if not self.open.is_set():
                    near.close()
                    continue
                far = socket.create_connection(("127.0.0.1", self.target))
                self._pairs.append((near, far))
                for a, b in ((near, far), (far, near)):
                    threading.Thread(target=_passed, args=(a, b), daemon=True).start()

    def cut(self):
        """End every line there is, in the middle of whatever it says."""
        self.open.clear()
        for pair in self._pairs:
            for s in pair:
                with contextlib.suppress(OSError):
                    s.shutdown(socket.SHUT_RDWR)
                s.close()
        self._pairs.clear()

    def close(self):
        self.cut()
        self._server.close()


def _passed(a, b):
    with contextlib.suppress(OSError):
        while piece := a.recv(65536):
            b.sendall(piece)
    for s in (a, b):
        with contextlib.suppress(OSError):
            s.shutdown(socket.SHUT_RDWR)
