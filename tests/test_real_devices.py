"""Real kernel devices, in the virtual machine: each test of tests/vm/guest is one here, too."""

from __future__ import annotations

import shutil
import sys
import tempfile
import threading
import xml.etree.ElementTree as Xml
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))

from c_loops import build_loops
from needed import needs
from vm.machine import HERE, run_job

GUEST = HERE / "guest"
# Names of the guest's tests: without their parameters, so that they can be told before the machine has run.
NAMES = [line.split("(")[0].removeprefix("def ") for file in sorted(GUEST.glob("test_*.py"))
         for line in file.read_text().splitlines() if line.startswith("def test_")]


# What the machine is made of, and what its tests call in it.
NEEDED = ("qemu-system-x86_64", "busybox", "depmod", "cpio", "setpriv", "udevadm", "/lib/systemd/systemd-udevd",
          "libinput", "arecord", "gcc")


class Machine(threading.Thread):
    """The machine with all guest tests, on its way while other tests run: it takes as long as they do together."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.told: dict[str, str] = {}
        self.wrong: BaseException | None = None

    def run(self) -> None:
        try:
            if shutil.which("gcc"):
                build_loops()
            with tempfile.TemporaryDirectory(prefix="job") as folder:
                self.told = run_guest(Path(folder), ["."])
        except BaseException as error:
            self.wrong = error


MACHINE = Machine()


@pytest.fixture(scope="session")
def report() -> dict[str, str]:
    """Each guest test's name, with why it failed or an empty text; a name's parameters are joined."""
    needs(*NEEDED)
    if MACHINE.ident is None:
        MACHINE.start()
    MACHINE.join()
    if MACHINE.wrong is not None:
        raise MACHINE.wrong
    return MACHINE.told


def run_guest(folder: Path, wanted: list[str]) -> dict[str, str]:
    """Run tests in the machine; each one's name, with why it failed."""
    alone = f"-p no:cacheprovider -c /dev/null --rootdir {GUEST} --confcutdir {GUEST}"
    outcome = run_job(f"cd {GUEST} && python -m pytest -q {alone} --junitxml=/run/job/report.xml {' '.join(wanted)}",
                      folder)
    file = Path(folder / "report.xml")
    assert file.exists(), outcome.output
    told: dict[str, str] = {}
    for case in Xml.parse(file).iter("testcase"):
        name = case.get("name", "").split("[")[0]
        wrong = [child for child in case if child.tag in ("failure", "error", "skipped")]
        told[name] = told.get(name, "") + "".join(f"{child.get('message')}\n{child.text}" for child in wrong)
    return told


@pytest.mark.parametrize("name", NAMES)
def test_in_the_machine(name: str, report: dict[str, str]) -> None:
    assert name in report, f"{name} did not run"
    assert not report[name], report[name]
