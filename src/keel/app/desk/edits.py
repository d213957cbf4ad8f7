"""What people write into a recording, as plans of exchanges: marks, notes, named asks, checks, nominal cycle times,
readings, boards, dictionaries and signals."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Generic, TypeVar

from keel.app.desk.deeds import Exchange, Kept, Plan

if TYPE_CHECKING:
    from keel.model.bus import Bus
    from keel.model.span import Mark
    from keel.signals.dictionary import Dictionary, Message
    from keel.signals.loading import Loaded
    from keel.signals.signal import Signal
    from keel.store.manifest import DictionaryEntry, Manifest, Reading

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")
SignalKey = tuple[str, int, int, str]
MessageKey = tuple[str, int, int, bool]


@dataclass(frozen=True)
class Placed(Generic[V]):
    """A thing of a list, and its place there; the same thing at another place is the same."""

    value: V
    place: int = field(default=1 << 30, compare=False)


def in_list(
    word: str, get: Callable[[Manifest], list[V]], put: Callable[[Manifest, list[V]], None], key: Callable[[V], K]
) -> Kept[K, Placed[V]]:
    """Things that lie in a list of the manifest, each under a key that it says itself."""

    def find(manifest: Manifest, wanted: K) -> Placed[V] | None:
        return next((Placed(v, i) for i, v in enumerate(get(manifest)) if key(v) == wanted), None)

    def exchange(manifest: Manifest, wanted: K, thing: Placed[V] | None) -> None:
        rest = [v for v in get(manifest) if key(v) != wanted]
        if thing is not None:
            rest.insert(thing.place, thing.value)
        put(manifest, rest)

    return Kept(word, find, exchange)


def _put_bus(manifest: Manifest, place: int, bus: Bus | None) -> None:
    from keel.store.buses import put_bus

    if bus is not None:
        put_bus(manifest, place, bus)


def _set(name: str) -> Callable[[Manifest, list[V]], None]:
    return lambda manifest, things: setattr(manifest, name, things)


MARKS: Kept[int, Placed[Mark]] = in_list("the mark", lambda m: m.marks, _set("marks"), lambda mark: mark.number)
NOTES = in_list("the note", lambda m: m.comments, _set("comments"), lambda note: note.number)
ASKS = in_list("the named ask", lambda m: m.asks, _set("asks"), lambda ask: ask.name)
CHECKS = in_list("the check", lambda m: m.checks, _set("checks"), lambda check: check)
BUSES: Kept[int, Bus] = Kept("the bus", lambda m, place: m.buses[place], _put_bus)
READINGS = in_list("the reading", lambda m: m.readings, _set("readings"), lambda r: (r.of, r.time))
DICTIONARIES = in_list("the dictionary", lambda m: m.dictionaries, _set("dictionaries"), lambda d: (d.name, d.bus))
NOMINAL: Kept[int, int] = Kept(
    "the nominal cycle time",
    lambda manifest, key: manifest.nominal.get(key),
    lambda manifest, key, ns: setattr(manifest, "nominal", _with(manifest.nominal, key, ns)),
)


def _with(known: dict[int, int], key: int, value: int | None) -> dict[int, int]:
    rest = {k: v for k, v in known.items() if k != key}
    return rest if value is None else {**rest, key: value}


def _on_board(manifest: Manifest, key: tuple[str, str]) -> Placed[str] | None:
    board, signal = key
    signals = next((p.signals for p in manifest.boards if p.name == board), ())
    return Placed(signal, signals.index(signal)) if signal in signals else None


def _put_on_board(manifest: Manifest, key: tuple[str, str], thing: Placed[str] | None) -> None:
    from keel.store.manifest import Board

    name, signal = key
    boards = {board.name: board for board in manifest.boards}
    board = boards.get(name, Board(name, ()))
    rest = [s for s in board.signals if s != signal]
    if thing is not None:
        rest.insert(thing.place, signal)
    boards[name] = replace(board, signals=tuple(rest))
    # A board without signals goes.
    manifest.boards = [board for board in boards.values() if board.signals]


BOARDS: Kept[tuple[str, str], Placed[str]] = Kept("the board", _on_board, _put_on_board)


def _signal(manifest: Manifest, key: SignalKey) -> Signal | None:
    bus, form, ident, name = key
    message = manifest.dictionary.find(bus, form, ident)
    return next((s for s in message.signals if s.name == name), None) if message is not None else None


def _put_signal(manifest: Manifest, key: SignalKey, signal: Signal | None) -> None:
    bus, form, ident, name = key
    if signal is None:
        manifest.dictionary = manifest.dictionary.without_signal(bus, form, ident, name)
    else:
        manifest.dictionary = manifest.dictionary.with_signal(bus, form, ident, signal)


SIGNALS: Kept[SignalKey, Signal] = Kept("the signal", _signal, _put_signal)


def _key_of(message: Message) -> MessageKey:
    return message.bus, int(message.form), message.ident, message.by_group


def _put_message(manifest: Manifest, key: MessageKey, message: Message | None) -> None:
    messages = [m for m in manifest.dictionary.messages if _key_of(m) != key]
    place = next((i for i, m in enumerate(manifest.dictionary.messages) if _key_of(m) == key), len(messages))
    if message is not None:
        messages.insert(place, message)
    manifest.dictionary = replace(manifest.dictionary, messages=tuple(messages))


MESSAGES: Kept[MessageKey, Message] = Kept(
    "the message",
    lambda manifest, key: next((m for m in manifest.dictionary.messages if _key_of(m) == key), None),
    _put_message,
)


# Plans.


class NewMark:
    """The plan that flags a moment; ``number`` is the mark's, once it is made.

    Args:
        time: When, in ns.
        attempt: The try it belongs to; None is that of the last mark.
    """

    def __init__(self, time: int, attempt: str | None) -> None:
        self._time, self._attempt = time, attempt
        self.number = 0

    def __call__(self, manifest: Manifest) -> Iterator[Exchange[int, Placed[Mark]]]:
        """One mark more."""
        from keel.model.span import Mark, tries_of

        self.number = max((m.number for m in manifest.marks), default=0) + 1
        of = self._attempt if self._attempt is not None else (tries_of(manifest.marks) or [""])[-1]
        yield Exchange(MARKS, self.number, Placed(Mark(self.number, self._time, of=of)))


def begin_try(name: str, before: str | None) -> Plan:
    """A last mark of the try before that has no partner goes over to the new one."""

    def plan(manifest: Manifest) -> Iterator[Exchange[int, Placed[Mark]]]:
        from keel.model.span import of_try

        mine = of_try(manifest.marks, before)
        if len(mine) % 2 and mine[-1].of != name:
            last = mine[-1]
            place = manifest.marks.index(last)
            yield Exchange(MARKS, last.number, Placed(replace(last, of=name), place))

    return plan


def note_on(number: int, text: str) -> Plan:
    """A note on a frame; an empty one takes it away."""

    def plan(manifest: Manifest) -> Iterator[Exchange[int, object]]:
        from keel.store.manifest import Comment

        place = sum(c.number < number for c in manifest.comments)
        yield Exchange(NOTES, number, Placed(Comment(number, text), place) if text else None)  # type: ignore[arg-type]

    return plan


def named_ask(name: str, text: str) -> Plan:
    """An ask under a name."""

    def plan(_: Manifest) -> Iterator[Exchange[str, object]]:
        from keel.store.manifest import NamedAsk

        yield Exchange(ASKS, name, Placed(NamedAsk(name, text)))  # type: ignore[arg-type]

    return plan


def bus_rates(place: int, bit_rate: int, fast_bit_rate: int | None) -> Plan:
    """How fast a bus runs."""

    def plan(manifest: Manifest) -> Iterator[Exchange[int, Bus]]:
        from keel.store.buses import changed

        yield Exchange(BUSES, place, changed(manifest.buses[place], bit_rate, fast_bit_rate))

    return plan


def nominal_cycle(key: int, ns: int) -> Plan:
    """A nominal cycle time; 0 forgets it."""
    return lambda _: [Exchange(NOMINAL, key, ns or None)]


def check(text: str, there: bool) -> Plan:
    """A check, or no longer."""
    return lambda _: [Exchange(CHECKS, text, Placed(text) if there else None)]


def turn_on_board(board: str, signal: str) -> Plan:
    """A signal on a board; one that is on it already is taken off."""

    def plan(manifest: Manifest) -> Iterator[Exchange[tuple[str, str], Placed[str]]]:
        is_on = _on_board(manifest, (board, signal)) is not None
        yield Exchange(BOARDS, (board, signal), None if is_on else Placed(signal))

    return plan


def readings(of: str, these: list[Reading], instead: bool) -> Plan:
    """Readings of something, besides those there are or instead of them."""

    def plan(manifest: Manifest) -> Iterator[Exchange[tuple[str, int], Placed[Reading]]]:
        for old in [r for r in manifest.readings if r.of == of] if instead else []:
            yield Exchange(READINGS, (of, old.time), None)
        for new in these:
            yield Exchange(READINGS, (of, new.time), Placed(new))

    return plan


def use_dictionary(folder: Path, loaded: Loaded) -> Plan:
    """Use a dictionary, after those that are used; one of the same name is exchanged."""

    def plan(manifest: Manifest) -> Iterator[Exchange[tuple[str, str], Placed[DictionaryEntry]]]:
        from keel.store.dictionaries import keep_copy

        entry = keep_copy(folder, loaded)
        old = DICTIONARIES.get(manifest, (entry.name, ""))
        yield Exchange(DICTIONARIES, (entry.name, ""), Placed(entry, old.place) if old is not None else Placed(entry))

    return plan


def drop_dictionary(entry: DictionaryEntry) -> Plan:
    """Use a dictionary no longer."""
    return lambda _: [Exchange(DICTIONARIES, (entry.name, entry.bus), None)]


def dictionary_first(entry: DictionaryEntry) -> Plan:
    """A dictionary before all others."""
    return lambda _: [Exchange(DICTIONARIES, (entry.name, entry.bus), Placed(entry, 0))]


def dictionary_on_next_bus(entry: DictionaryEntry) -> Plan:
    """A dictionary for the next bus alone, or for all again."""

    def plan(manifest: Manifest) -> Iterator[Exchange[tuple[str, str], Placed[DictionaryEntry]]]:
        old = DICTIONARIES.get(manifest, (entry.name, entry.bus))
        if old is None:
            return
        order = ["", *manifest.bus_names]
        bus = order[(order.index(entry.bus) + 1) % len(order)] if entry.bus in order else ""
        yield Exchange(DICTIONARIES, (entry.name, entry.bus), None)
        yield Exchange(DICTIONARIES, (entry.name, bus), Placed(replace(old.value, bus=bus), old.place))

    return plan


def keep_signals(bus: str, form: int, ident: int, name: str, signals: list[Signal]) -> Plan:
    """Signals of an identifier; a message that is new is called ``name``."""

    def plan(manifest: Manifest) -> Iterator[Exchange[object, object]]:
        from keel.signals.dictionary import Message, nameless

        if manifest.dictionary.find(bus, form, ident) is None:
            new = Message(bus, form, ident, name or nameless(form, ident))
            yield Exchange(MESSAGES, _key_of(new), new)  # type: ignore[arg-type]
        for signal in signals:
            yield Exchange(SIGNALS, (bus, form, ident, signal.name), signal)  # type: ignore[arg-type]

    return plan


def keep_draft(drafted: Dictionary) -> Plan:
    """What a draft says of messages that nothing is said of yet."""

    def plan(manifest: Manifest) -> Iterator[Exchange[MessageKey, Message]]:
        from keel.signals.dictionary import merged

        before = {_key_of(m): m for m in manifest.dictionary.messages}
        for message in merged([manifest.dictionary, drafted]).messages:
            if before.get(_key_of(message)) != message:
                yield Exchange(MESSAGES, _key_of(message), message)

    return plan
