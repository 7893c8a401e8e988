"""Puts an engine together.  The only place that knows all parts: what each of them needs is plugged in here."""

from __future__ import annotations

import os
from collections.abc import Callable

from brass_pebble.core.desk.action import RECORD, RECORD_KEYBOARD, REST, STOP
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.effects.kinds import MIDI
from brass_pebble.core.play.player import Effect, Player
from brass_pebble.core.play.router import Router
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem
from brass_pebble.kinds.inputs.bystanders import Bystanders
from brass_pebble.kinds.inputs.table import input_kinds
from brass_pebble.kinds.outputs.base import Output, OutputError
from brass_pebble.kinds.outputs.stage import StageOutput

from .alarms import Alarms
from .clients.asking_requests import AskingRequests
from .clients.desk_rows import DeskRows
from .clients.editing import Editing
from .clients.giving_requests import GivingRequests
from .clients.layer_requests import LayerRequests
from .clients.macro_requests import MacroRequests
from .clients.meet_requests import MeetRequests
from .clients.motion_requests import MotionRequests
from .clients.network_requests import NetworkRequests
from .clients.news import News
from .clients.paper_requests import PaperRequests
from .clients.problems import ProblemList
from .clients.requests import Requests
from .clients.server import Client, Server
from .clients.usage_requests import UsageRequests
from .clients.voice_requests import VoiceRequests
from .devices.addresses import Addresses
from .devices.chord_catcher import ChordCatcher
from .devices.focus import Focus
from .devices.grips import Grips
from .devices.lamps import Lamps
from .devices.meeting import Meet
from .devices.memory import Memory
from .devices.network import Network
from .devices.ownership import Devices
from .devices.receivers import Receivers
from .devices.set_aside import SetAside
from .disk.desk_watch import DeskWatch
from .disk.history import Historian
from .engine import Engine
from .hot.filters import Filters
from .hot.press_path import PressWay
from .hot.sender import Sender
from .hot.switchboard import Switchboard
from .hot.timekeeper import Timekeeper
from .live_desk import DeskInUse, first_desk
from .logs import log
from .loop import Clock, Loop, Worker
from .ports import Ports
from .runs.bench_presses import BenchPresses
from .runs.control import Control
from .runs.errands import Errands
from .runs.hearing import Hearing
from .runs.kept_values import KeptInDesk
from .runs.questions import Questions
from .runs.recorder import Recorder
from .runs.trying import recordings
from .setup import Setup

# As long as nobody came, it is looked so often whether whoever started the engine is still there, in ns.
STARTER_ROUND = 3_000_000_000


def assemble(setup: Setup, clock: Clock | None = None) -> Engine:
    """An engine that is ready to run: its desk is read, its devices are taken over, clients can come.

    Raises: OutputError if nothing can be sent, and the setup does not say that this may be.
    """
    loop = Loop(clock)
    worker = Worker(loop)
    now = loop.clock.now
    server = Server(setup.socket, loop)
    problems = ProblemList(server)
    loop.on_mishap = problems.mishap
    player = Player()
    router = Router(player)
    ports = Ports(loop, worker, Alarms(now, problems.mishap), server, problems, router, now)

    # The desk, and the way out.
    loaded = first_desk(setup.store, router, setup.seen)
    problems.of_desk(loaded.problems)
    # With a desk that cannot be read, the person has to be told so, even where nothing could be sent.
    setup.may_lack_output |= not loaded.ok
    output, sends_nothing = _open_output(setup, loaded.desk, problems)
    output.use(loaded.desk.places)
    news = News(ports, player, output)
    sender = Sender(player, output, news, problems, now)
    control = Control(ports, player, sender, news)
    player.on_end, player.on_drop = control.run_ended, news.start_dropped

    # The parts.
    bystanders = Bystanders()
    devices, network = Devices(ports), Network(ports, setup.known)
    receivers = Receivers(ports, ports_too=MIDI not in output.takes)
    addresses = Addresses(ports)
    switchboard = Switchboard(ports, output, receivers, addresses)
    lamps, meet, aside, grips = Lamps(ports), Meet(ports), SetAside(ports), Grips(ports)
    focus, chord_catcher = Focus(ports), ChordCatcher(ports)
    path, filters = PressWay(ports, news), Filters(ports)
    errands, recorder, bench = Errands(ports), Recorder(ports), BenchPresses(ports)
    historian = Historian(ports, setup.history)
    kept = KeptInDesk(ports, setup.store.folder, setup.store.trust)
    questions = Questions(ports, setup.store.versions / "answers.json")
    router.kept = kept
    hearing = Hearing(ports, recordings(setup.store.folder))
    timekeeper = Timekeeper(ports, player, news)
    live = DeskInUse(ports, setup.store, problems, output)
    rows = DeskRows(ports)
    editing = Editing(ports, setup.store, server, live)
    memory = Memory(setup.known)
    memory.read()

    # What each needs of the others.
    sender.switchboard, sender.tap = switchboard, recorder
    receivers.sessions = network
    devices.aside, devices.grips, devices.recorder = aside, grips, recorder
    devices.messages, devices.path, devices.control, devices.live = switchboard, path, control, live
    devices.setup, devices.memory, devices.kinds = setup, memory, input_kinds(setup.bench, network)
    network.devices, network.messages, network.addresses = devices, switchboard, addresses
    aside.devices, aside.path, aside.news, aside.meet = devices, path, news, meet
    grips.devices, grips.aside, grips.live = devices, aside, live
    lamps.devices, lamps.player = devices, player
    meet.devices, meet.aside, meet.grips, meet.recorder = devices, aside, grips, recorder
    meet.setup = setup
    focus.output, chord_catcher.devices = output, devices
    path.sender, path.filters, path.devices, path.grips = sender, filters, devices, grips
    path.aside, path.recorder, path.bystanders, path.control = aside, recorder, bystanders, control
    filters.devices, filters.aside, filters.recorder, filters.news = devices, aside, recorder, news
    filters.bystanders, filters.path = bystanders, path
    errands.control, errands.news, errands.live, errands.player, errands.output = control, news, live, player, output
    errands.pasting.looks_at_windows = loaded.desk.output != "stage"
    errands.questions, errands.folder = questions, setup.store.folder
    questions.control, questions.news, filters.questions = control, news, questions
    questions.remember_focus, questions.slowly = errands.remember_focus, errands.slowly
    hearing.devices, hearing.filters, hearing.news, hearing.control = devices, filters, news, control
    hearing.speak, errands.spoken = errands.say, hearing.speaking
    recorder.devices, recorder.live, recorder.store = devices, live, setup.store
    bench.filters, bench.chord_catcher, bench.meet, bench.devices = filters, chord_catcher, meet, devices
    bench.setup, historian.news = setup, news
    timekeeper.sender, timekeeper.filters, timekeeper.path, timekeeper.control = sender, filters, path, control
    timekeeper.bystanders, timekeeper.network, timekeeper.errands = bystanders, network, errands
    loop.rounds = timekeeper
    rows.store, rows.setup, rows.devices, rows.recorder = setup.store, setup, devices, recorder
    rows.aside, rows.focus, rows.sends_nothing = aside, focus, sends_nothing
    live.control, live.devices, live.rows, live.setup = control, devices, rows.desk, setup

    # Who is told of what.
    def record(trace: Trace) -> None:
        recorder.toggle(trace, keyboard=trace.deed == RECORD_KEYBOARD)

    def rest(trace: Trace) -> None:
        if trace.answer is not None:
            devices.toggle(trace.answer.surface.id)

    def follow_bystanders() -> None:
        if setup.real_devices and ports.desk.output != "stage":
            bystanders.follow(facts for facts in devices.here if devices.keys_mix_in(facts))

    def cancel_recording() -> None:
        recorder.cancel("everything was stopped")
    path.deeds = {REST: rest, RECORD: record, RECORD_KEYBOARD: record, STOP: control.stopped_by_press,
                  **hearing.deeds()}
    questions.read_clipboard = errands.read_clipboard
    questions.listen = devices.listen
    control.drop_questions = questions.drop
    control.stop_waiting, control.end_helpers = filters.drop_waiting, errands.end_helpers
    control.stop_first = (bench.stop_script, filters.drop_waiting, router.drop_gestures)
    control.stop_last = (errands.end_helpers, cancel_recording)
    router.on_layers, router.caps_lock = devices.share, bystanders.caps_lock
    news.layer_rows, news.stage_rows = rows.layers, rows.stage
    news.on_control.append(grips.press)
    news.on_layers += [devices.show_all_lamps, hearing.follow]
    news.on_traces += [lamps.follow, historian.note]
    news.on_chatter.append(lambda surface, chatter: None if surface in filters.debouncers else
                           devices.notice_chatter(surface, chatter))
    live.followers = (aside.follow, devices.take, focus.follow)
    live.connected = (network.follow, switchboard.follow)
    live.told = (meet.tell, lamps.follow, follow_bystanders, hearing.follow)

    # Clients.
    layer_requests, macro_requests = LayerRequests(ports, editing), MacroRequests(ports, editing)
    meet_requests, network_requests = MeetRequests(ports, editing), NetworkRequests(ports, editing)
    usage_requests, asking_requests = UsageRequests(ports, editing), AskingRequests(ports, editing)
    voice_requests = VoiceRequests(ports, editing)
    voice_requests.hearing, voice_requests.utter = hearing, errands.utter
    asking_requests.questions, asking_requests.kept = questions, kept
    layer_requests.chord_catcher, layer_requests.focus, layer_requests.rows = chord_catcher, focus, rows
    layer_requests.setup, layer_requests.control = setup, control
    layer_requests.slowly, layer_requests.alike = errands.slowly, hearing.alike
    macro_requests.setup, macro_requests.rows = setup, rows
    macro_requests.questions, macro_requests.kept = questions, kept
    meet_requests.devices, meet_requests.meet, meet_requests.aside = devices, meet, aside
    meet_requests.live, meet_requests.setup = live, setup
    network_requests.network, usage_requests.historian = network, historian
    giving_requests = GivingRequests(ports, editing)
    giving_requests.kept = kept
    requests = Requests(ports, editing, meet_requests, macro_requests, layer_requests, MotionRequests(ports, editing),
                        network_requests, PaperRequests(ports, editing), usage_requests,
                        giving_requests, asking_requests, voice_requests)
    requests.setup, requests.devices, requests.recorder, requests.aside = setup, devices, recorder, aside
    requests.news, requests.sender, requests.bench, requests.control = news, sender, bench, control
    requests.live, requests.store, requests.rows, requests.output = live, setup.store, rows, output
    requests.kept, requests.questions, requests.hearing = kept, questions, hearing
    requests.meet, requests.chord_catcher, requests.bystanders = meet, chord_catcher, bystanders
    was_visited = False

    def client_left(client: Client) -> None:
        nonlocal was_visited
        bench.let_go(client.number)
        meet.client_left(client.number)
        hearing.client_left(client.number)
        chord_catcher.client_left(client.number)
        # A client that only asks something must not end an engine whose screen has yet to come.
        was_visited |= bool(client.topics)
        if setup.until_left and was_visited and not server.clients:
            log.info("the last client left")
            loop.stop()

    def look_for_starter(now: int) -> None:
        """Whoever started it may have died before it came: then nobody ever comes."""
        if was_visited or any(client.topics for client in server.clients.values()):
            return
        if os.getppid() != setup.started_by:
            log.info("whoever started it is gone, and nobody came")
            loop.stop()
        ports.alarms.at("starter", now + STARTER_ROUND, look_for_starter)
    if setup.until_left and setup.started_by:
        ports.alarms.at("starter", ports.now() + STARTER_ROUND, look_for_starter)
    server.later = lambda wait, call: ports.alarms.later("greetings", wait, call)
    server.open(requests.take, client_left, requests.hello)
    live.tell_of_old_desk()

    # From here on it can be spoken to, whatever goes wrong with one part.
    desk_watch = DeskWatch(setup.store.folder, tuple(filter(None, (setup.store.user_layouts,))), live.reload_soon,
                           kept.follow)
    loop.watch(desk_watch.fileno, desk_watch.ready)
    for call in (network.follow, switchboard.follow, devices.take, devices.watch_for_changes, meet.follow,
                 follow_bystanders, focus.follow, hearing.follow):
        _try(call, problems)
    kept.read_all()
    live.settle()

    def release_all() -> None:
        out: list[Effect] = []
        player.stop_all(now(), out)
        sender.send_last(out, now())
    # What people wait for first: nothing goes on, and every device is theirs again.
    ends = (release_all, lamps.darken, errands.stop, lambda: chord_catcher.end("left"), meet.close, recorder.close,
            devices.close, output.close, switchboard.close, bystanders.close, focus.close,
            lambda: loop.forget(desk_watch.fileno), desk_watch.close, network.close, errands.close,
            giving_requests.close, historian.close, server.close, worker.close, loop.close, setup.store.keep)
    return Engine(ports, setup, player, output, devices, problems, requests, path, ends)


def _try(call: Callable[[], object], problems: ProblemList) -> None:
    """A part that cannot begin keeps no other from it."""
    try:
        call()
    except Exception as error:
        problems.mishap(error)


def _open_output(setup: Setup, desk: Desk, problems: ProblemList) -> tuple[Output, bool]:
    """The output, and whether it is none: a surface that could send nothing would only be a dead device."""
    try:
        return setup.open_output(desk), False
    except OutputError as error:
        if not setup.may_lack_output:
            raise
        setup.real_devices = False
        problems.stands(Problem(f"nothing can be sent, so no device is taken over: {error}"))
        return StageOutput({}), True
