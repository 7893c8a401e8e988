"""The parts of the command line about what moves, and about devices of the network."""

from __future__ import annotations

import json
from dataclasses import fields
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble.core.say.counts import say_count

from .shared import DeskOption, Failure, JsonOption, os_text, tell_saved


def add_to(app: typer.Typer) -> None:
    """Make these commands part of the program's."""
    app.command()(sessions)
    app.command()(curve)
    app.command()(ports)


def _client(desk: Path | None, name: str) -> Any:
    from brass_pebble.client import EngineClient, find_engine
    return EngineClient(find_engine(desk), f"brass-pebble {name}")


def _split(who: str) -> tuple[str, str]:
    name, at, host = who.rpartition("@")
    if not at and not host:
        raise Failure("name somebody as NAME@HOST, or a sender of OSC as @HOST", "usage")
    return name, host


def sessions(admit: Annotated[str, typer.Option("--admit", metavar="NAME@HOST", help="allow a peer; @HOST for "
                                                "OSC")] = "",
             refuse: Annotated[str, typer.Option("--refuse", metavar="NAME@HOST", help="revoke access")] = "",
             invite: Annotated[str, typer.Option("--invite", metavar="HOST[:PORT]", help="invite another "
                                                 "computer")] = "",
             as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show who is connected over the network; allow or invite.

    How well each is heard, too.
    """
    with _client(desk, "sessions") as client:
        for who, yes in ((admit, True), (refuse, False)):
            if who:
                name, host = _split(who)
                client.ask("admit", name=name, host=host, yes=yes)
        if invite:
            host, _, port = invite.partition(":")
            if port and not port.isdigit():
                raise Failure(f"“{port}” is not a valid port. Write --invite 192.168.1.20:5004", "usage")
            client.ask("invite", host=host, port=int(port or 5004))
        state = client.ask("sessions")
    if as_json:
        print(json.dumps({name: value for name, value in state.items() if name not in ("re", "ok")},
                         ensure_ascii=False))
        return
    for what, said in (("midi", "MIDI session"), ("osc", "OSC")):
        print(f"{said}: " + (f"open at port {state[what]}" if state[what] else f"closed; write {what} = "
                             f"{5004 if what == 'midi' else 9010} under [network] in desk.toml"))
    for row in state["peers"]:
        who = f"{row['name'] or 'OSC'} at {row['host']}"
        if row["state"] == "connected":
            print(f"  {who}: connected for {row['for_ms'] / 1000:.0f} s, latency {row['latency_ms']:.1f} ms, "
                  f"{say_count(row['messages'], 'message')}, lost {row['lost']}, late {row['late']}, too many "
                  f"{row['dropped']}"
                  + (f", is the surface {row['surface']}" if row["surface"] else ""))
        elif row["state"] == "asks":
            print(f"  {who}: asks for access; brass-pebble sessions --admit {row['name']}@{row['host']}")
        else:
            print(f"  {who}: {row['state']}")


def curve(surface: Annotated[str, typer.Argument(metavar="SURFACE", help="the surface's id")],
          control: Annotated[str, typer.Argument(metavar="CONTROL", help="a control that moves")],
          svg: Annotated[Path | None, typer.Option("--svg", metavar="FILE", help="draw the curve")] = None,
          axis: Annotated[int, typer.Option("--axis", min=0, max=1, help="1 for a stick's second axis")] = 0,
          as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show how a control's position is read.

    With --svg, as a drawing.
    """
    from brass_pebble.core.play.axis import AxisSettings
    from brass_pebble.core.say.problem import ProblemError
    from brass_pebble.paper.curve import curve_page, say_settings
    from brass_pebble.paper.label_files import write_pages
    with _client(desk, "curve") as client:
        found = next((s for s in client.ask("desk")["desk"]["surfaces"] if s["id"] == surface), None)
    if found is None:
        raise Failure(f"there is no surface “{surface}”", "usage")
    row = next((c for c in found["controls"] if c["id"] == control and c.get("axes")), None)
    if row is None or axis >= len(row["axes"]):
        moving = ", ".join(c["id"] for c in found["controls"] if c.get("axes"))
        raise Failure(f"“{control}” of “{surface}” does not move" + (f"; moving are {moving}" if moving else ""),
                      "usage")
    known = {field.name for field in fields(AxisSettings)}
    settings = AxisSettings(**{name: value for name, value in row["axes"][axis].items() if name in known})
    if svg is not None:
        try:
            name = f"{found['name']} {row['legend']}"
            saved = write_pages([curve_page(name, settings, centred=row["centred"])], svg, name)
        except ProblemError as error:
            raise Failure(str(error.problem), "usage") from None
        except OSError as error:
            raise Failure(f"the drawing cannot be written: {os_text(error)}", "failed") from None
        tell_saved(saved, beside=True)
    if as_json:
        print(json.dumps(row["axes"][axis]))
    else:
        print(f"{surface} {control}: {say_settings(settings)}")


def ports(as_json: JsonOption = False) -> None:
    """List the MIDI ports of this machine."""
    from brass_pebble.kinds.inputs.midi_ports import list_ports
    from brass_pebble.kinds.kernel.sequencer import is_here
    if not is_here():
        raise Failure("this machine has no MIDI ports (/dev/snd/seq is missing or may not be opened); "
                      "load them with: sudo modprobe snd-seq", "failed")
    found = list_ports()
    for facts in found:
        print(json.dumps(facts.as_dict(), ensure_ascii=False) if as_json else f"{facts.shown}   {facts.port}")
    if not found and not as_json:
        print("No MIDI device is plugged in.")
