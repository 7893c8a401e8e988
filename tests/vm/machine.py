"""Boots the small virtual machine and runs a job in it.

The machine has uinput and uhid, so that real device nodes can be made and grabbed.  Its files are the host's own,
read-only; what the job writes to /run/job comes back.
"""

from __future__ import annotations

import shlex
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

HERE = Path(__file__).parent
PROJECT = HERE.parent.parent
CACHE = PROJECT / ".cache" / "vm"


@dataclass(frozen=True)
class Outcome:
    """How a job ended: its exit code, what it printed, and the folder it wrote to."""

    code: int
    output: str
    folder: Path


def run_job(command: str, folder: Path, *, seconds: float = 4500) -> Outcome:
    """Run a shell command in a fresh machine.

    Raises:
        RuntimeError: the machine did not come up, or took too long.
    """
    subprocess.run(["sh", str(HERE / "build.sh"), str(CACHE)], check=True)
    folder.mkdir(parents=True, exist_ok=True)
    path = f"{Path(sys.executable).parent}:/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin"
    (folder / "run.sh").write_text(
        "set -e\nexport HOME=/run/home TMPDIR=/run/tmp XDG_RUNTIME_DIR=/run/user LANG=C.UTF-8\n"
        f"export PATH={shlex.quote(path)} PYTHONPATH={shlex.quote(str(PROJECT / 'src'))}\n"
        # What the host has compiled need not be compiled in an emulated machine again.
        f"export PYTHONPYCACHEPREFIX={shlex.quote(str(PROJECT / '.cache' / 'bytecode'))}\n"
        f"mkdir -m 700 /run/user\ncd {shlex.quote(str(PROJECT))}\n{command}\n")
    console = subprocess.run(
        # Other tests run at the same time, and are timed more closely; whatever ends them, ends it.
        ["setpriv", "--pdeathsig", "KILL", "nice", "-n", "5",
         "qemu-system-x86_64", "-accel", "tcg,thread=multi", "-cpu", "max", "-smp", "2", "-m", "2048", "-nographic",
         "-no-reboot", "-nic", "none", "-kernel", str(CACHE / "vmlinuz"), "-initrd", str(CACHE / "initramfs.gz"),
         "-append", "console=ttyS0 quiet panic=-1 rdinit=/init",
         "-virtfs", "local,path=/,mount_tag=host,security_model=none,readonly=on,multidevs=remap",
         "-virtfs", f"local,path={folder},mount_tag=job,security_model=none"],
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=seconds, check=False)
    ended = folder / "exit"
    output = (folder / "output.txt").read_text(errors="replace") if (folder / "output.txt").exists() else ""
    if not ended.exists():
        raise RuntimeError(f"the machine did not finish its job:\n{console.stdout.decode(errors='replace')[-3000:]}\n"
                           f"{output[-3000:]}")
    return Outcome(int(ended.read_text()), output, folder)
