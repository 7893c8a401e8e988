"""Parcels as files: a zip of a desk's readable files with a manifest, written and, with every suspicion, read."""

from __future__ import annotations

import errno
import hashlib
import io
import json
import stat
import tomllib
import zipfile
import zlib
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from brass_pebble import __version__, file_access
from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.devices.layout import read_layout
from brass_pebble.core.macro.reader import Draft, walk
from brass_pebble.core.macro.value.kept_text import FOLDER, file_of, read_kept
from brass_pebble.core.macro.world_steps import Play
from brass_pebble.core.parcel.contents import (
    FORMAT,
    MANIFEST,
    MOST_BYTES,
    MOST_FILES,
    MOST_IN_ALL,
    MOST_LINES,
    MOST_SHRUNK,
    OWN_OF_A_DEVICE,
    OWN_TABLES,
    Manifest,
    Parcel,
    check_names,
    check_plain,
    printable,
    read_manifest,
    take_out_own,
)
from brass_pebble.core.parcel.merge import Mine
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.paths import SHIPPED_LAYOUTS

# The same desk gives the same file, whenever it is packed.
_DATE = (2020, 1, 1, 0, 0, 0)
NOTHING = "Nothing was read, and nothing on the disk was changed"


# Giving.


def pack_desk(store: DeskStore, *, surfaces: Iterable[str] = (), macros: Iterable[str] = (),
              values: bool = False) -> bytes:
    """The whole desk, or only some of its surfaces (with what they use), or some macros (with those they play); with
    `values`, also what these macros keep.

    Raises:
        ProblemError: there is no such surface or macro, or desk.toml cannot be read.
    """
    loaded = store.load()
    if not loaded.ok:
        raise ProblemError(loaded.problems[0].what, file=loaded.problems[0].file, line=loaded.problems[0].line,
                           hint="Put the file right first")
    desk, drafts, texts = loaded.desk, store.drafts(), store.macro_files.texts()
    surfaces, macros = list(surfaces), list(macros)
    for wanted, known, what in ((surfaces, desk.surfaces, "surface"), (macros, texts, "macro")):
        for name in wanted:
            if name not in known:
                raise ProblemError(f"there is no {what} “{name}”", hint=nearest(name, known) or
                                   f"Available: {', '.join(list(known)[:12]) or 'none yet'}")
    files: dict[str, str] = {}
    kind, name = "desk", desk.name
    if macros and not surfaces:
        kind, chosen = "macros", _with_played(macros, drafts)
        name = drafts[macros[0]].macro.name if len(macros) == 1 else f"{say_count(len(macros), 'macro')} of {desk.name}"
    else:
        shown = [desk.surfaces[one] for one in surfaces] or list(desk.surfaces.values())
        if surfaces:
            kind = "surfaces"
            name = shown[0].name if len(shown) == 1 else f"{say_count(len(shown), 'surface')} of {desk.name}"
        files["desk.toml"] = _desk_text(file_access.read_text(store.file), set(surfaces) or None)
        chosen = _with_played([*_played_by(shown), *macros], drafts) if surfaces else set(texts)
        own = _own_layouts(store, desk)
        files |= {f"layouts/{surface.layout.id}.toml": own[surface.layout.id] for surface in shown
                  if surface.layout.id in own}
        if not surfaces:
            files |= {f"programs/{name}.toml": text
                      for name, text in file_access.texts_in(store.folder / "programs", ".toml").items()}
    files |= {f"macros/{one}.macro": texts[one] for one in sorted(chosen) if one in texts}
    if values:
        kept = {value for one in chosen if one in drafts for value in drafts[one].macro.keeps}
        files |= {file_of(value): text for value in sorted(kept)
                  if (text := store.read_file(file_of(value))) is not None and _is_kept(text)}
    check_names(files)
    return _zip(kind, name, files)


def _is_kept(text: str) -> bool:
    try:
        read_kept(text)
    except ProblemError:
        return False
    return True


def _played_by(surfaces: Iterable[Surface]) -> list[str]:
    return [action.target for surface in surfaces for layer in surface.layers for binding in layer.bindings.values()
            for action in (binding.action, *binding.action.steps) if action.kind == "play"]


def _with_played(names: Iterable[str], drafts: dict[str, Draft]) -> set[str]:
    """Macros, and those that they play, and those that these play."""
    by_name = {draft.macro.name: one for one, draft in drafts.items()}
    found: set[str] = set()
    waiting = list(names)
    while waiting:
        one = waiting.pop()
        one = one if one in drafts else by_name.get(one, one)
        if one not in found and one in drafts:
            found.add(one)
            waiting += [step.name for step in walk(drafts[one].steps) if isinstance(step, Play)]
    return found


def _desk_text(text: str, surfaces: set[str] | None) -> str:
    """desk.toml with its remarks, without what is the giver's own, and only some surfaces."""
    import tomlkit
    document: Any = tomlkit.parse(text)
    for name in OWN_TABLES if surfaces is None else (*OWN_TABLES, "stage"):
        document.pop(name, None)
    tables = document.get("surface", {})
    for name in list(tables):
        if surfaces is not None and name not in surfaces:
            tables.remove(name)
            continue
        take_out_own(tables[name])
        rules = [tables[name].get("device"), *(tables[name].get("also") or [])]
        for rule in rules:
            for field in OWN_OF_A_DEVICE:
                if rule is not None and field in rule:
                    rule.remove(field)
    return tomlkit.dumps(document)


def _own_layouts(store: DeskStore, desk: Desk) -> dict[str, str]:
    """The texts of drawings that do not ship with the program."""
    used = {surface.layout.id for surface in desk.surfaces.values()}
    return {name: text for name, text in store.layout_texts().items()
            if name in used and not ((SHIPPED_LAYOUTS / f"{name}.toml").is_file()
                                     and file_access.read_text(SHIPPED_LAYOUTS / f"{name}.toml") == text)}


def _zip(kind: str, name: str, files: dict[str, str]) -> bytes:
    contents = {path: text.encode("utf-8") for path, text in files.items()}
    manifest = {"format": FORMAT, "kind": kind, "name": name, "made_with": f"Brass Pebble {__version__}",
                "files": {path: {"bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()}
                          for path, data in sorted(contents.items())}}
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, data in [(MANIFEST, (json.dumps(manifest, ensure_ascii=False, indent=1) + "\n").encode()),
                           *sorted(contents.items())]:
            info = zipfile.ZipInfo(path, _DATE)
            info.compress_type = zipfile.ZIP_DEFLATED
            info.external_attr = (stat.S_IFREG | 0o644) << 16
            archive.writestr(info, data)
    return stream.getvalue()


# Taking.


def read_parcel(file: Path) -> Parcel:
    """What is in a parcel.  Nothing is written anywhere.

    Raises:
        ProblemError: it is none, is broken, of a later version, or made to do harm.
        OSError: the file cannot be read.
    """
    try:
        return parcel_of(file_access.read_bytes(file, MOST_IN_ALL))
    except file_access.Unreadable as error:
        if error.errno == errno.EFBIG:
            raise ProblemError(f"{file.name} is larger than any desk", hint=NOTHING) from None
        raise ProblemError(f"{file.name} is not a package: {error.strerror}", hint=NOTHING) from None


def parcel_of(data: bytes) -> Parcel:
    """What is in the bytes of a parcel.

    Raises:
        ProblemError: see `read_parcel`.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            files = _read_files(archive)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, ValueError, OSError) as error:
        raise ProblemError(f"this is not a package of a desk, or it is damaged: "
                           f"{printable(str(error)) or type(error).__name__}",
                           hint=NOTHING) from None
    try:
        about = json.loads(files[MANIFEST])
    except KeyError:
        raise ProblemError(f"the zip has no {MANIFEST}, so it is not an exported file", hint=NOTHING) from None
    except (ValueError, RecursionError):
        raise ProblemError("the package's manifest is not JSON", hint=NOTHING) from None
    manifest = read_manifest(about)
    for name in files.keys() - {MANIFEST} - manifest.files.keys():
        raise ProblemError(f"“{name}” is in the package, but not in its manifest", hint=NOTHING)
    texts = {}
    lines = sum(content.count(b"\n") + 1 for content in files.values())
    if lines > MOST_LINES:
        raise ProblemError(f"the package has {say_count(lines, 'line')} in all, and at most {MOST_LINES:,} are read",
                           hint=f"Ask for it in several packages. {NOTHING}")
    for name, (size, digest) in manifest.files.items():
        content = files.get(name)
        if content is None:
            raise ProblemError(f"“{name}” is missing in the package", hint=NOTHING)
        if len(content) != size or hashlib.sha256(content).hexdigest() != digest:
            raise ProblemError(f"“{name}” is not as it was when the package was made", hint=NOTHING)
        try:
            texts[name] = content.decode("utf-8")
        except UnicodeDecodeError:
            raise ProblemError(f"“{name}” is not a text in UTF-8", hint=NOTHING) from None
        check_plain(name, texts[name])
    return parcel_from(manifest, texts, hashlib.sha256(data).hexdigest())


def _read_files(archive: zipfile.ZipFile) -> dict[str, bytes]:
    """Every file of an archive, none of which may be anything but a small text in its place."""
    members = archive.infolist()
    if len(members) > MOST_FILES:
        raise ProblemError(f"the package holds {say_count(len(members), 'file')}",
                           hint=f"A desk has at most {MOST_FILES:,}. {NOTHING}")
    names = [member.filename for member in members]
    check_names(names)
    if len(set(names)) < len(names):
        raise ProblemError("the package holds a file twice", hint=NOTHING)
    found, in_all = {}, 0
    for member in members:
        mode = member.external_attr >> 16
        if mode and not stat.S_ISREG(mode) and stat.S_IFMT(mode):
            raise ProblemError(f"“{member.filename}” in the file is not a plain file but a link or "
                               "worse", hint=NOTHING)
        if member.flag_bits & 0x1:
            raise ProblemError(f"“{member.filename}” in the package is encrypted", hint=NOTHING)
        large = ProblemError(f"“{member.filename}” in the package is too large for what it is", hint=NOTHING)
        if member.file_size > MOST_BYTES or member.file_size > MOST_SHRUNK * max(64, member.compress_size):
            raise large
        with archive.open(member) as stream:
            # What the directory says of the size may be a lie.
            content = stream.read(MOST_BYTES + 1)
        in_all += len(content)
        if len(content) > MOST_BYTES or in_all > MOST_IN_ALL:
            raise large
        found[member.filename] = content
    return found


def parcel_from(manifest: Manifest, texts: dict[str, str], digest: str) -> Parcel:
    """A parcel from its texts by their names; `digest` is what its bytes are known by.

    Raises:
        ProblemError: see `read_parcel`.
    """
    text = texts.get("desk.toml", "")
    try:
        tables = load_tables(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise ProblemError(f"the package's desk.toml is broken: {printable(str(error))}", hint=NOTHING) from None
    check_plain("desk.toml", tables)
    version = tables.get("format", 1)
    if text and version != 1:
        raise ProblemError(f"the desk in the package has format {version}",
                           hint=f"This program reads format 1. {NOTHING}")
    if manifest.kind != "macros" and not text:
        raise ProblemError("the package has no desk.toml", hint=NOTHING)

    def below(folder: str, ending: str) -> dict[str, str]:
        return {name.removeprefix(folder).removesuffix(ending): text for name, text in texts.items()
                if name.startswith(folder)}
    layouts = below("layouts/", ".toml")
    for name, layout in layouts.items():
        try:
            drawn = load_tables(layout)
            check_plain(f"layouts/{name}.toml", drawn)
            read_layout(drawn, id=name, file=f"layouts/{name}.toml")
        except (tomllib.TOMLDecodeError, RecursionError):
            raise ProblemError(f"the drawing “{name}” in the package is broken", hint=NOTHING) from None
    values = below("values/", ".toml")
    for name, kept in values.items():
        if not _is_kept(kept):
            raise ProblemError(f"the value “{name}” in the package is broken", hint=NOTHING)
    return Parcel(manifest, text, tables, below("macros/", ".macro"), layouts, below("programs/", ".toml"), values,
                  digest)


def mine_of(store: DeskStore) -> Mine:
    """What a desk has, for a parcel to be put beside it.

    Raises:
        ProblemError: desk.toml is broken.
    """
    programs = file_access.texts_in(store.folder / "programs", ".toml")
    values = file_access.texts_in(store.folder / FOLDER, ".toml")
    return Mine(store.tables(), store.macro_files.texts(), store.layout_texts(), programs, values)
