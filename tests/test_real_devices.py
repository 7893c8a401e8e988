"""Real kernel devices, in the virtual machine: each test of tests/vm/guest is one here, too."""

from __future__ import annotations

import xml.etree.ElementTree as Xml
from pathlib import Path

import pytest

from vm.machine import HERE, run_job

GUEST = HERE / "guest"
# Names of the guest's tests: without their parameters, so that they can be told before the machine has run.
NAMES = [line.split("(")[0].removeprefix("def ") for file in sorted(GUEST.glob("test_*.py"))
         for line in file.read_text().splitlines() if line.startswith("def test_")]


@pytest.fixture(scope="session")
def report(tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """Each guest test's name, with why it failed or an empty text; a name's parameters are joined."""
    return run_guest(tmp_path_factory.mktemp("job"), ["."])


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
