"""The engine as a user service of systemd, so that it is there after every login.

Unit options: systemd.unit(5), systemd.service(5).
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

NAME = "brass-pebble.service"
UNIT = """[Unit]
Description=Brass Pebble: spare keyboards and pedals as command surfaces
Documentation=man:systemd.unit(5)

[Service]
Type=exec
ExecStart={command}
Restart=on-failure
# Programs that a macro has started stay when the engine ends.
KillMode=process
RestartSec=2
Slice=session.slice

[Install]
WantedBy=default.target
"""
Run = Callable[[list[str]], tuple[int, str]]


@dataclass(frozen=True)
class Outcome:
    """What was done, in sentences, and whether all of it worked."""

    ok: bool
    said: tuple[str, ...]


def unit_file() -> Path:
    """Where the unit lives."""
    base = os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config"
    return Path(base) / "systemd" / "user" / NAME


def unit_text(desk: Path) -> str:
    """The unit for a desk."""
    program = Path(sys.executable).parent / "brass-pebble"
    words = [str(program)] if program.exists() else [sys.executable, "-m", "brass_pebble"]
    command = " ".join(_quote(word) for word in [*words, "run", "--desk", str(desk.absolute())])
    return UNIT.format(command=command)


def _quote(word: str) -> str:
    """A word of ExecStart: systemd expands % and $, and reads quotes like a shell."""
    return shlex.quote(word).replace("%", "%%").replace("$", "$$")


def systemctl(words: list[str]) -> tuple[int, str]:
    """Run `systemctl --user`; a missing one is told like a failing one."""
    if shutil.which("systemctl") is None:
        return 127, "systemctl is not here"
    done = subprocess.run(["systemctl", "--user", *words], capture_output=True, text=True, timeout=20, check=False)
    return done.returncode, (done.stdout + done.stderr).strip()


def install(desk: Path, run: Run = systemctl) -> Outcome:
    """Write the unit, and start it now and at every login."""
    file = unit_file()
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(unit_text(desk), encoding="utf-8")
    said = [f"saved {file}"]
    for words in (["daemon-reload"], ["enable", "--now", NAME]):
        code, text = run(words)
        if code:
            return Outcome(False, (*said, f"systemctl --user {' '.join(words)} did not work: {text or f'exit {code}'}",
                                   "The unit is in place; where systemd runs your session, run the same command there"))
        said.append(f"ran systemctl --user {' '.join(words)}")
    return Outcome(True, (*said, "The engine runs, and will after every login."))


def remove(run: Run = systemctl) -> Outcome:
    """Stop it and take the unit away."""
    file = unit_file()
    if not file.exists():
        return Outcome(True, ("There is no service installed.",))
    code, text = run(["disable", "--now", NAME])
    file.unlink()
    said = [f"removed {file}"]
    if code:
        said.append(f"systemctl --user disable --now {NAME} did not work: {text or f'exit {code}'}")
    run(["daemon-reload"])
    return Outcome(not code, tuple(said))


def status(run: Run = systemctl) -> Outcome:
    """Whether it is installed, and whether it runs."""
    if not unit_file().exists():
        return Outcome(True, ("not installed; brass-pebble service install sets it up",))
    code, text = run(["is-active", NAME])
    if code in (0, 3):
        return Outcome(code == 0, (f"installed, {text or 'state not known'}",))
    return Outcome(False, (f"installed, but systemd does not answer: {text}",))
