"""Services of Debian's packages on free ports of this machine, with data of their own, for as long as a test lasts."""

from __future__ import annotations

import glob
import os
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["free_port", "postgres", "redis", "s3"]


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


def _answers(port: int, seconds: float = 20.0) -> None:
    until = time.monotonic() + seconds
    while True:
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
            return
        except OSError:
            if time.monotonic() > until:
                raise
            time.sleep(0.05)


@contextmanager
def redis() -> Iterator[str]:
    """The address of a Redis of one's own."""
    folder, port = tempfile.mkdtemp(prefix="redis-"), free_port()
    command = ["redis-server", "--port", str(port), "--bind", "127.0.0.1", "--save", "", "--dir", folder]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    try:
        _answers(port)
        yield f"redis://127.0.0.1:{port}/0"
    finally:
        process.terminate()
        process.wait(10)
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def postgres() -> Iterator[str]:
    """The address of an empty PostgreSQL database of one's own."""
    tools = Path(sorted(glob.glob("/usr/lib/postgresql/*/bin"))[-1])
    folder, port = Path(tempfile.mkdtemp(prefix="postgres-")), free_port()
    # A database server refuses to be root's: Debian's package brings a user of its own.
    other = ["runuser", "-u", "postgres", "--"] if os.getuid() == 0 else []
    if other:
        shutil.chown(folder, "postgres")

    def run(*command: str) -> None:
        subprocess.run([*other, *command], check=True, stdout=subprocess.DEVNULL, cwd=folder)

    data = str(folder / "data")
    run(str(tools / "initdb"), "-D", data, "-U", "mason", "--auth=trust", "--no-sync", "-E", "UTF8")
    options = f"-p {port} -k {folder} -c listen_addresses=127.0.0.1 -c fsync=off"
    control = str(tools / "pg_ctl")
    run(control, "-D", data, "-w", "-l", str(folder / "log"), "-o", options, "start")
    try:
        run(str(tools / "createdb"), "-h", "127.0.0.1", "-p", str(port), "-U", "mason", "mason")
        yield f"postgres://mason@127.0.0.1:{port}/mason"
    finally:
        run(control, "-D", data, "-m", "immediate", "stop")
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def s3(bucket: str) -> Iterator[dict[str, str]]:
    """Variables that lead to a service that speaks S3 and holds an empty bucket."""
    import boto3
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer(port=0, verbose=False)
    server.start()
    try:
        url = "http://{}:{}".format(*server.get_host_and_port())
        keys = {"AWS_ACCESS_KEY_ID": "tests", "AWS_SECRET_ACCESS_KEY": "tests", "AWS_DEFAULT_REGION": "us-east-1"}
        boto3.client(
            "s3", endpoint_url=url, aws_access_key_id="tests", aws_secret_access_key="tests", region_name="us-east-1"
        ).create_bucket(Bucket=bucket)
        yield {**keys, "DEFT_MASON_S3_ENDPOINT": url, "DEFT_MASON_STORE": f"s3://{bucket}/mason"}
    finally:
        server.stop()
