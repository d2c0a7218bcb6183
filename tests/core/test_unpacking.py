"""Archives that come from elsewhere put nothing beside their folder."""

import io
import tarfile

import pytest

from deftmason.core.unpacking import unpack_file


def archive(*members):
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w") as tar:
        for name, more in members:
            entry = tarfile.TarInfo(name)
            for key, value in more.items():
                setattr(entry, key, value)
            entry.size = 3 if entry.isreg() else 0
            tar.addfile(entry, io.BytesIO(b"abc") if entry.isreg() else None)
    held.seek(0)
    return tarfile.open(fileobj=held)  # noqa: SIM115


def test_plain_files_come_out_where_they_belong(tmp_path):
    with archive(("./a", {}), ("deep/er/b", {"mode": 0o777, "uid": 0})) as tar:
        for m in tar:
            unpack_file(tar, m, str(tmp_path))
    assert (tmp_path / "a").read_bytes() == (tmp_path / "deep/er/b").read_bytes() == b"abc"
    assert (tmp_path / "deep/er/b").stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    "name,more",
    [
        ("../beside", {}),
        ("deep/../../beside", {}),
        ("/beside-deft-mason", {}),
        ("link", {"type": tarfile.SYMTYPE, "linkname": "/"}),
        ("pipe", {"type": tarfile.FIFOTYPE}),
        (".", {}),
    ],
)
def test_anything_else_is_refused_and_writes_nothing(tmp_path, name, more):
    folder = tmp_path / "folder"
    folder.mkdir()
    with archive((name, more)) as tar, pytest.raises(tarfile.TarError, match="no plain file"):
        unpack_file(tar, tar.getmembers()[0], str(folder))
    assert [p.name for p in tmp_path.rglob("*")] == ["folder"]
    assert not (tmp_path / "/beside-deft-mason").exists()
