"""Texts that macros type and nobody is to read: in a file of the person's own, beside the desk and never in it.

What is stored is plain JSON, readable by its owner alone.  Names of secrets appear in macros, traces and packages;
the texts nowhere.
"""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

from brass_pebble import file_access

MOST, LONGEST = 500, 4_000
NAME = re.compile(r"[\w .-]{1,60}")


class SecretError(OSError):
    """A secret cannot be had; the text says why and what to do, and nothing of the secret."""


def read_all(file: Path) -> dict[str, str]:
    """Every secret, by name.

    Raises:
        SecretError: others could read the file, or it is broken.
    """
    try:
        about = file.stat()
        if about.st_mode & 0o077 or about.st_uid != os.getuid():
            raise SecretError(f"{file} can be read by others. Make it yours alone: chmod 600 {file}")
        rows = json.loads(file_access.read_text(file))
    except FileNotFoundError:
        return {}
    except (OSError, ValueError, RecursionError) as error:
        raise SecretError(f"{file} cannot be read: {file_access.say(error)}") from None
    if not isinstance(rows, dict):
        raise SecretError(f"{file} holds no secrets. Move it away, and set them again")
    return {str(name): str(text) for name, text in rows.items()}


def read_one(file: Path, name: str) -> str:
    """A secret.

    Raises:
        SecretError: there is none of that name, or it cannot be read.
    """
    found = read_all(file).get(name)
    if found is None:
        raise SecretError(f"there is no secret “{name}”. Set it with: brass-pebble secret set \"{name}\"")
    return found


def write_one(file: Path, name: str, text: str | None) -> None:
    """Set a secret, or forget it (None).

    Raises:
        SecretError: the name or the text cannot be kept, or there is nothing to forget.
        OSError: the file cannot be written.
    """
    rows = read_all(file)
    if not NAME.fullmatch(name):
        raise SecretError(f"“{name}” cannot be a secret's name. Use letters, digits, spaces, dots and dashes")
    if text is None:
        if name not in rows:
            raise SecretError(f"there is no secret “{name}”")
        del rows[name]
    elif not (text := text.rstrip("\r\n")) or len(text) > LONGEST:
        raise SecretError(f"a secret has 1 to {LONGEST:,} characters")
    elif any(not char.isprintable() for char in text):
        # In a header it would be refused with a sentence in which it stands; typed, it would press Enter.
        raise SecretError("a secret is one line, without tabs and other control characters")
    elif len(rows) >= MOST and name not in rows:
        raise SecretError(f"there are {MOST} secrets already")
    else:
        rows[name] = text
    file_access.private_folder(file.parent)
    text = json.dumps(rows, ensure_ascii=False, indent=1, sort_keys=True)
    file_access.write_text(file, text, file_access.PRIVATE_FILE)
