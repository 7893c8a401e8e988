"""Where things live, after the XDG convention."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Callable
from pathlib import Path

import platformdirs

APP = "brass-pebble"
# What is shipped.
PACKAGE = Path(__file__).parent
SHIPPED_LAYOUTS = PACKAGE / "layouts"
SHIPPED_PROGRAMS = PACKAGE / "programs"
DEMO_STAGE = PACKAGE / "demo" / "stage"
# sun_path of linux/un.h, less its closing zero.
LONGEST_SOCKET = 107
# Where the standard has them, below the person's home.
USUAL = {"XDG_CONFIG_HOME": ".config", "XDG_DATA_HOME": ".local/share", "XDG_STATE_HOME": ".local/state"}
# What the programs that macros start are given as their mask of new files' rights; the engine has a stricter one.
usual_umask = -1


def _base(variable: str, usual: Callable[[str], str]) -> Path:
    """A folder of this program's own.  A relative path in the variable counts for nothing, as the standard says (XDG
    Base Directory): it would be another folder in each folder from which the program is started."""
    given = os.environ.get(variable, "")
    if not given or os.path.isabs(given):
        return Path(usual(APP))
    return Path.home() / USUAL[variable] / APP


def default_desk() -> Path:
    """The desk that is used when none is named."""
    return _config() / "desk"


def _config() -> Path:
    return _base("XDG_CONFIG_HOME", platformdirs.user_config_dir)


def user_layouts() -> Path:
    """Layouts of the person's own, shared by all desks."""
    return _config() / "layouts"


def data_folder() -> Path:
    """Where the demo's desk is copied to."""
    return _base("XDG_DATA_HOME", platformdirs.user_data_dir)


def state_folder() -> Path:
    """The log, and earlier versions of desks."""
    return _base("XDG_STATE_HOME", platformdirs.user_state_dir)


def secrets_file() -> Path:
    """Texts that macros type and nobody is to read."""
    return _config() / "secrets.json"


def approvals_file(desk: Path) -> Path:
    """What the person has approved of what came from somebody else."""
    return state_folder() / "approvals" / f"{desk_key(desk)}.json"


def history_file(desk: Path) -> Path:
    """What the surfaces of a desk were used for."""
    return state_folder() / "history" / f"{desk_key(desk)}.sqlite"


def exports_folder() -> Path:
    """Where the screen writes what is printed, drawn or given on: among the person's documents."""
    return Path(platformdirs.user_documents_dir()) / "Brass Pebble"


def printed_file(desk: Path, surface: str) -> Path:
    """What was on the labels of a surface when they were last printed."""
    return state_folder() / "printed" / desk_key(desk) / f"{surface}.json"


def runtime_folder() -> Path:
    """The folder of the sockets, made with mode 0700.

    Raises:
        PermissionError: the folder exists and belongs to somebody else, or others may enter it.
    """
    base = os.environ.get("XDG_RUNTIME_DIR", "")
    folder = Path(base) / APP if os.path.isabs(base) and os.path.isdir(base) else Path(f"/tmp/{APP}-{os.getuid()}")
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    found = folder.lstat()
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or stat.S_IMODE(found.st_mode) & 0o077:
        raise PermissionError(f"{folder} is not private to you; remove it, or set XDG_RUNTIME_DIR to a folder "
                              "of your own with mode 0700")
    return folder


def desk_key(desk: Path) -> str:
    """A short name that tells one desk folder from every other."""
    whole = str(desk.resolve())
    return f"{desk.resolve().name[:20]}-{hashlib.sha256(whole.encode()).hexdigest()[:10]}"


def socket_path(desk: Path) -> Path:
    """The socket of the engine that runs this desk.

    Raises:
        PermissionError: the runtime folder's path is longer than the kernel takes for a socket.
    """
    path = runtime_folder() / f"{desk_key(desk)}.sock"
    if len(os.fsencode(path)) > LONGEST_SOCKET:
        raise PermissionError(f"the path {path} is too long for a socket; set XDG_RUNTIME_DIR to a shorter folder")
    return path
