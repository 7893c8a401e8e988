"""What reading a desk brought, kept from one start to the next: a help only, and never newer than the program.

It is written when the engine ends, since putting it together would hold up the keys of a running one.
"""

from __future__ import annotations

import gc
import hashlib
import os
import pickle
from pathlib import Path
from typing import Any

from brass_pebble import __version__

# Whoever changes what is kept makes what was kept before useless.
FORMAT = 1
_DIGEST = 64
_BROKEN = (OSError, pickle.PickleError, EOFError, AttributeError, ImportError, IndexError, KeyError, TypeError,
           ValueError, RecursionError)


def _made_with() -> bytes:
    """What else than the contents has to be the same: the program itself, down to its last edit."""
    newest = max((file.stat().st_mtime_ns for file in Path(__file__).parent.parent.rglob("*.py")), default=0)
    return f"{FORMAT} {__version__} {newest}".encode()


def read_kept(file: Path) -> dict[str, Any]:
    """What was kept; nothing if there is none, or anything about it is not as it should be."""
    collecting = gc.isenabled()
    gc.disable()
    try:
        about = file.stat()
        # Only what this person's own program wrote is taken apart.
        if about.st_uid != os.getuid() or about.st_mode & 0o022:
            return {}
        data = file.read_bytes()
        body = data[_DIGEST:]
        if data[:_DIGEST] != hashlib.sha256(_made_with() + body).hexdigest().encode():
            return {}
        found = pickle.loads(body)
        return found if isinstance(found, dict) else {}
    except _BROKEN:
        return {}
    finally:
        if collecting:
            gc.enable()


def write_kept(file: Path, kept: dict[str, Any]) -> None:
    """Keep something; what goes wrong costs only time later."""
    temporary = file.with_suffix(f".{os.getpid()}")
    try:
        body = pickle.dumps(kept, pickle.HIGHEST_PROTOCOL)
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(hashlib.sha256(_made_with() + body).hexdigest().encode() + body)
        os.replace(temporary, file)
    except _BROKEN:
        temporary.unlink(missing_ok=True)
