"""Files as given, on disk by checksum: flushed before the row that names them."""

from __future__ import annotations

import hashlib
import os
import tempfile

from django.conf import settings

from deftmason.core.errors import BadInput

from .models import Blob

__all__ = ["blob_path", "keep_file"]


def blob_path(sha256: str) -> str:
    return str(settings.DATA / "blobs" / sha256[:2] / sha256)


def keep_file(chunks) -> Blob:
    """Store chunks of bytes as a blob. Raises `BadInput` where they are more than may be sent."""
    folder = settings.DATA / "blobs"
    folder.mkdir(exist_ok=True)
    digest, size = hashlib.sha256(), 0
    handle, temporary = tempfile.mkstemp(dir=folder)
    try:
        with os.fdopen(handle, "wb") as f:
            for chunk in chunks:
                size += len(chunk)
                if size > settings.MOST_UPLOAD_BYTES:
                    raise BadInput(
                        f"The file is larger than the {settings.MOST_UPLOAD_BYTES / 1e9:g} GB that may be sent."
                    )
                digest.update(chunk)
                f.write(chunk)
            f.flush()
            os.fsync(f.fileno())
        final = blob_path(digest.hexdigest())
        os.makedirs(os.path.dirname(final), exist_ok=True)
        os.replace(temporary, final)
    except BaseException:
        if os.path.exists(temporary):
            os.unlink(temporary)
        raise
    return Blob.objects.get_or_create(sha256=digest.hexdigest(), defaults={"size": size})[0]
