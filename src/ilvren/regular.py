"""Files that are read whole: regular ones of a size that can be, never a pipe or a device that gives without end."""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

from ilvren.errors import ProblemError

__all__ = ["MOST_BYTES", "not_utf8", "regular_bytes", "regular_text"]

MOST_BYTES = 512 * 1024 * 1024


def regular_bytes(path: str | Path, most: int = MOST_BYTES) -> bytes:
    """Return the content of a file. Raises OSError, also for what is no regular file or has more than `most` bytes."""
    found = os.stat(path)
    if stat.S_ISDIR(found.st_mode):
        raise IsADirectoryError(errno.EISDIR, "it is a folder", str(path))
    if not stat.S_ISREG(found.st_mode):
        raise OSError(errno.EINVAL, "it is a pipe or a device, and no file that can be read twice", str(path))
    if found.st_size > most:
        told = f"it has {found.st_size / 2**20:.0f} MB, and {most / 2**20:.0f} MB are the most"
        raise OSError(errno.EFBIG, told, str(path))
    with open(path, "rb") as file:
        return file.read(most + 1)


def regular_text(path: str | Path, encoding: str = "utf-8", errors: str = "strict", most: int = MOST_BYTES) -> str:
    """Return the text of a file, its ends of lines being line feeds. Raises OSError as `regular_bytes` does, and
    UnicodeDecodeError."""
    text = regular_bytes(path, most).decode(encoding, errors)
    return text.replace("\r\n", "\n").replace("\r", "\n")


def not_utf8(content: bytes, error: UnicodeDecodeError, file: str) -> ProblemError:
    """Return the error for a file that is no text in UTF-8: the line of the byte that shows it."""
    begin = content.rfind(b"\n", 0, error.start) + 1
    end = content.find(b"\n", error.start)
    text = content[begin : end if end >= 0 else None].decode("utf-8", "replace").rstrip("\r")
    place = len(content[begin : error.start].decode("utf-8", "replace"))
    return ProblemError(
        f"is not UTF-8 text (byte 0x{content[error.start]:02x})",
        file=file,
        line=content.count(b"\n", 0, error.start) + 1,
        text=text,
        span=(place, place + 1),
        advice="save it as UTF-8; many editors call that an encoding",
    )
