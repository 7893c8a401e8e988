"""Broken files, made from good ones by a seeded mutator: the same number always gives the same file."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

PIECES = ("\0", "\x1b[2J", "\ufeff", "'''", '"""', "[[", "]]", "{" * 40, "[" * 3_000, "= = =", "\\u0000", "999" * 150,
          "-1e999", "nan", "inf", "\u202e", "é" * 64, "\r", "\t", "𝄞", "\\", "# ", "true", "0x",
          "1979-05-27T07:32:00Z", '"\\ud800"',
          "repeat 1\n" * 30, "play welcome\n", "(" * 200, "((1+1)*" * 80, "+ 1 " * 400, "tap ", "Ctrl+" * 50)


def mutate(text: str, number: int) -> bytes:
    """The text, changed in one to six places."""
    chance = random.Random(number)
    for _ in range(chance.randint(1, 6)):
        how = chance.randrange(9)
        at = chance.randrange(len(text) + 1)
        to = min(len(text), at + chance.choice((1, 2, 7, 40, 400)))
        lines = text.split("\n")
        if how == 0:
            text = text[:at] + text[to:]
        elif how == 1:
            text = text[:at] + chance.choice(PIECES) + text[at:]
        elif how == 2:
            text = text[:at] + chance.choice(PIECES) + text[to:]
        elif how == 3:
            one, other = chance.randrange(len(lines)), chance.randrange(len(lines))
            lines[one], lines[other] = lines[other], lines[one]
            text = "\n".join(lines)
        elif how == 4:
            one = chance.randrange(len(lines))
            text = "\n".join([*lines[:one], *[lines[one]] * chance.choice((2, 3, 50)), *lines[one:]])
        elif how == 5:
            text = text[:at]
        elif how == 6:
            text = text[:at] + text[at:to].swapcase()[::-1] + text[to:]
        elif how == 7:
            one = chance.randrange(len(lines))
            lines[one] = " " * chance.choice((1, 2, 7, 300)) + lines[one]
            text = "\n".join(lines)
        else:
            text = text[:at] + str(chance.choice((-1, 0, 2**31, 2**63, 2**70, 10**400, 1e308))) + text[to:]
        text = text[:300_000]
    data = text.encode("utf-8", "surrogatepass")
    if chance.random() < 0.15 and data:
        at = chance.randrange(len(data))
        data = data[:at] + bytes((chance.randrange(256),)) + data[at + 1:]
    return data


def _chain(folder: Path, count: int) -> None:
    for number in range(count):
        (folder / "macros" / f"m{number}.macro").write_text(f"play m{number + 1}\nplay m{number + 1}\n")
    (folder / "macros" / f"m{count}.macro").write_text("tap A\n")


def _line(folder: Path, count: int) -> None:
    for number in range(count):
        (folder / "macros" / f"l{number}.macro").write_text(f"play l{number + 1}\n")


def _macro(name: str, text: str | bytes) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        file = folder / "macros" / f"{name}.macro"
        file.write_bytes(text if isinstance(text, bytes) else text.encode())
    return write


def _desk(text: str) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        (folder / "desk.toml").write_text(text)
    return write


def _layout(text: str) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        (folder / "layouts").mkdir(exist_ok=True)
        (folder / "layouts" / "numpad.toml").write_text(text)
    return write


def _pipe(name: str) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        import os
        file = folder / name
        file.parent.mkdir(exist_ok=True)
        file.unlink(missing_ok=True)
        os.mkfifo(file)
    return write


def _link(name: str, target: str) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        file = folder / name
        file.parent.mkdir(exist_ok=True)
        file.unlink(missing_ok=True)
        file.symlink_to(target)
    return write


def _folder(name: str) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        file = folder / name
        file.unlink(missing_ok=True)
        file.mkdir(parents=True)
    return write


def _many(folder: Path) -> None:
    for number in range(3_000):
        (folder / "macros" / f"x{number}.macro").write_text("tap A\n")


NESTED = "".join(f"{'  ' * depth}repeat 1\n" for depth in range(250)) + "  " * 250 + "tap A\n"
# What was found to stop it, each by name.
MONSTERS: dict[str, Callable[[Path], None]] = {
    "250 nested blocks": _macro("deep", NESTED),
    "an expression of a thousand terms": _macro("sum", "let x be " + " + ".join(["1"] * 1_000) + "\n"),
    "parentheses in parentheses": _macro("round", f"let x be {'(' * 900}1{')' * 900}\n"),
    "a number of 400 digits": _macro("long", f"repeat {'9' * 400}\n  tap A\n"),
    "a wait of 400 digits": _macro("wait", f"wait {'9' * 400}ms\n"),
    "a number of 5,000 digits": _macro("longer", f"let x be {'9' * 5_000}\n"),
    "macros that play the next one twice": lambda folder: _chain(folder, 29),
    "macros that play the next one, 400 deep": lambda folder: _line(folder, 400),
    "a line of 5 MB": _macro("line", 'type "' + "a" * 5_000_000 + '"\n'),
    "many lines": _macro("lines", "tap A\n" * 400_000),
    "3,000 macros": _many,
    "a macro that is no text": _macro("bytes", bytes(range(256)) * 40),
    "a repeat without end": _macro("endless", "repeat 200000\n  repeat 200000\n    tap A\n"),
    "a pipe for a macro": _pipe("macros/pipe.macro"), "a pipe for desk.toml": _pipe("desk.toml"),
    "a pipe for a drawing": _pipe("layouts/numpad.toml"), "a pipe for a table": _pipe("programs/x.toml"),
    "a pipe for guests.toml": _pipe("guests.toml"),
    "a device for a macro": _link("macros/zero.macro", "/dev/zero"),
    "a device for desk.toml": _link("desk.toml", "/dev/zero"),
    "a terminal for a macro": _link("macros/tty.macro", "/dev/tty"),
    "a link to itself": _link("macros/self.macro", "self.macro"),
    "a folder for a macro": _folder("macros/folder.macro"), "a folder for desk.toml": _folder("desk.toml"),
    "a folder for a drawing": _folder("layouts/numpad.toml"),
    "arrays in arrays": _desk("format = 1\nx = " + "[" * 3_000 + "]" * 3_000 + "\n"),
    "tables in tables": _desk("format = 1\nx = " + "{a=" * 500 + "1" + "}" * 500 + "\n"),
    "a dotted key of 3,000 parts": _desk("format = 1\n" + ".".join(["a"] * 3_000) + " = 1\n"),
    "a TOML number of 400 digits": _desk(f"format = {'9' * 400}\n"),
    "a TOML number of 5,000 digits": _desk(f"format = {'9' * 5_000}\n"),
    "numbers that are none": _desk("format = nan\nscreen = [inf, -inf]\n[surface.x]\nat = [nan, 1e308]\n"),
    "a time of 400 digits": _desk(f'format = 1\ntap = "{"9" * 400}ms"\n'),
    "a text of a megabyte": _desk(f'format = 1\nname = "{"n" * 1_000_000}"\n'),
    "a desk of ten thousand tables": _desk("format = 1\n" + "".join(f"[surface.s{n}]\n" for n in range(10_000))),
    "everything of the wrong kind": _desk(
        'format = "x"\nname = 1\noutput = []\nsurface = 3\nstage = "y"\nnetwork = [1]\nmidi_to = {}\n'
        'screen = "wide"\n'),
    "wrong kinds further in": _desk(
        'format = 1\n[surface.a]\nlayer = 1\nkeys = 2\ndevice = "x"\nalso = [1, "y"]\naxis = 7\nlamps = []\nhome = 3\n'
        'takes = {}\n[surface.b.layer.base]\npress = 1\nhold = []\n"with x" = 3\nfollows = "x"\n[surface.c.layer.base.'
        'press]\nx = 1\ny = []\nz = { tap = 1 }\nw = { play = [] }\nv = { cycle = 1, each = [] }\n'),
    "a drawing without end": _layout("control = [" + '{ id = "a", sends = "A", x = 1e300, y = -1e300 },' * 50 + "]\n"),
    "a drawing of the wrong kind": _layout("control = 1\nlights = 2\nfits = 3\n"),
    "a drawing that is none": _layout("\0\0\0"),
    "a list of guests that is none": lambda folder: (folder / "guests.toml").write_bytes(b"\xff\xfe[macro"),
}
