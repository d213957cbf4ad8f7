"""How a delimited text lies: what separates its columns and what each column holds.

A layout has a text form, which people type to correct a guess:

    separator=comma header=yes skip=0 unit=s id=hex payload=hex columns=time,bus,id,-,payload

Column words are those of `ROLES`; ``byte`` at the end holds for all columns that follow, ``-`` is passed over.
"""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass, replace
from typing import Any

from keel.errors import InputError
from keel.formats.frame_lines import CSV_HEADER
from keel.model.settings import remember_setting, setting

ROLES = ("-", "time", "id", "payload", "byte", "bus", "len", "dlc", "dir", "ext", "kind", "fd", "brs", "esi", "faults")
"""What a column may hold; the place is the number compiled code knows it by."""
SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|", "space": " "}
UNITS = ("s", "ms", "us", "ns", "clock", "date")
_NAMES: tuple[tuple[str, str], ...] = (
    ("payload", r"payload|data|data.?bytes|bytes|daten|databytes.*"),
    ("time", r"t|(\w+_)?(time|timestamp|zeit|date|clock|stamp).*|n?s|[mµμu]s|sec(onds?)?|(milli|micro|nano)s(ec.*)?"),
    ("id", r"id|(can|arb|msg|message|frame)?.?(id|ident|identifier|kennung|address)(.*hex.*)?"),
    ("byte", r"(d|b|byte|data|db)[ _.\-]?\[?0?[0-7]\]?"),
    ("bus", r"bus|channel|chan|ch|interface|if|port|network|line|leitung|kanal"),
    ("dlc", r"dlc"),
    ("len", r"n|len|length|size|count|datalen.*"),
    ("dir", r"dir|direction|rx.?tx|tx.?rx"),
    ("ext", r"ext|extended|ide|is.?extended"),
    ("kind", r"kind|frametype"),
    ("fd", r"fd|fdf|edl"),
    ("brs", r"brs"),
    ("esi", r"esi"),
    ("faults", r"faults?|errors?"),
)


@dataclass(frozen=True)
class Layout:
    """How a delimited text lies.

    Attributes:
        skip: Lines before the header, or before the first row.
        unit: What times are in; ``clock`` is hours:minutes:seconds, ``date`` with a date before.
        columns: What each column holds, in order.
    """

    separator: str
    columns: tuple[str, ...]
    header: bool = False
    skip: int = 0
    unit: str = "s"
    hex_ids: bool = True
    hex_payload: bool = True

    @property
    def sign(self) -> str:
        """The separating character."""
        return SEPARATORS[self.separator]

    def words(self) -> str:
        """The text form."""
        return (
            f"separator={self.separator} header={'yes' if self.header else 'no'} skip={self.skip} unit={self.unit} "
            f"id={'hex' if self.hex_ids else 'dec'} payload={'hex' if self.hex_payload else 'dec'} "
            f"columns={','.join(self.columns)}"
        )

    def corrected(self, words: str) -> Layout:
        """This layout with what some words of the text form say.

        Raises:
            InputError: a word is not understood.
        """
        new = self
        for word in words.split():
            key, _, value = word.partition("=")
            try:
                new = replace(new, **_setting(key, value))
            except (KeyError, ValueError):
                raise InputError("--layout", f"“{word}” is not understood", _EXPECTED.get(key, _KEYS)) from None
        return new

    def problem(self) -> str:
        """Why nothing could be read so, or an empty text."""
        if "time" not in self.columns:
            return "no column holds the time"
        return "" if "id" in self.columns else "no column holds the identifier"


_OWN_ROLES = {
    "t": "time", "bus": "bus", "id": "id", "ext": "ext", "dir": "dir", "kind": "kind", "fd": "fd", "brs": "brs",
    "esi": "esi", "dlc": "dlc", "payload": "payload", "faults": "faults",
}  # fmt: skip
OWN = Layout("comma", tuple(_OWN_ROLES.get(title, "-") for title in CSV_HEADER), header=True, unit="ns")
_UNIT_WORDS = {"s": "s", "sec": "s", "seconds": "s", "ms": "ms", "msec": "ms", "us": "us", "µs": "us", "μs": "us",
               "usec": "us", "ns": "ns", "nsec": "ns", "milliseconds": "ms", "microseconds": "us",
               "nanoseconds": "ns", "millis": "ms", "micros": "us", "nanos": "ns"}  # fmt: skip
_KEYS = "separator, header, skip, unit, id, payload, columns"
_EXPECTED = {
    "separator": ", ".join(SEPARATORS),
    "header": "yes or no",
    "skip": "a number of lines",
    "unit": ", ".join(UNITS),
    "id": "hex or dec",
    "payload": "hex or dec",
    "columns": "words of " + " ".join(ROLES),
}


def _setting(key: str, value: str) -> dict[str, Any]:
    if key == "separator" and value in SEPARATORS:
        return {"separator": value}
    if key == "header" and value in ("yes", "no"):
        return {"header": value == "yes"}
    if key == "skip":
        return {"skip": max(int(value), 0)}
    if key == "unit" and value in UNITS:
        return {"unit": value}
    if key in ("id", "payload") and value in ("hex", "dec"):
        return {"hex_ids" if key == "id" else "hex_payload": value == "hex"}
    if key == "columns" and all(word in ROLES for word in value.split(",")):
        return {"columns": tuple(value.split(","))}
    raise KeyError(key)


def split(line: str, layout: Layout) -> list[str]:
    """The cells of a line, as the reader sees them."""
    if layout.separator == "space":
        return line.split()
    return [cell.strip().strip('"') for cell in line.split(layout.sign)]


def _first_lines(head: bytes) -> list[str]:
    lines = [line for line in head.decode("utf-8-sig", "replace").splitlines() if line.strip()]
    if not head.endswith(b"\n") and len(lines) > 2:
        # The last line may be cut.
        lines.pop()
    return lines[:400]


def likely_separator(head: bytes) -> str:
    """What parts the cells of the first lines most evenly."""
    best, most = "comma", (0.0, 0)
    for separator in SEPARATORS:
        widths = [len(split(line, Layout(separator, ()))) for line in _first_lines(head)]
        usual = max(set(widths), key=widths.count, default=1)
        rated = (widths.count(usual) / max(len(widths), 1), usual) if usual > 1 else (0.0, 0)
        if rated > most:
            best, most = separator, rated
    return best


def missing_in(head: bytes) -> str:
    """Why a text that looks like a table is none of frames, by its titles; empty if it looks like none."""
    for separator in SEPARATORS:
        cells = [split(line, Layout(separator, ())) for line in _first_lines(head)]
        widths = [len(row) for row in cells]
        if len(cells) > 1 and min(widths) >= 3 and max(widths) - min(widths) <= 8 and b"\0" not in head:
            roles = _by_name(cells[0])
            titles = ", ".join(f"“{title}”" for title in cells[0][:6])
            lacking = [word for word, role in (("times", "time"), ("identifiers", "id")) if role not in roles]
            what = " and ".join(lacking) or "values that fit their titles"
            return f"it is a table of {len(cells[0])} columns ({titles}), but no column with {what} is found"
    return ""


def guess(head: bytes) -> Layout | None:
    """The layout that fits the first lines best, or None if they are no table of frames."""
    lines = _first_lines(head)
    if lines and lines[0] == ",".join(CSV_HEADER):
        # What Keel itself wrote is known.
        return OWN
    best: tuple[float, Layout] | None = None
    for separator in SEPARATORS:
        found = _guess_with(lines, separator)
        if found is not None and (best is None or found[0] > best[0]):
            best = found
    return best[1] if best else None


def _guess_with(lines: list[str], separator: str) -> tuple[float, Layout] | None:
    bare = Layout(separator, ())
    cells = [split(line, bare) for line in lines]
    counts = [len(row) for row in cells]
    usual = max(counts, key=lambda n: (counts.count(n), n), default=0)
    if usual < 3:
        return None
    start = next((i for i, row in enumerate(cells) if any(_is_number(cell) for cell in row) and len(row) >= 3), None)
    if start is None:
        return None
    header = start > 0 and len(cells[start - 1]) >= 3 and not any(_is_number(c) for c in cells[start - 1] if len(c) > 2)
    rows = cells[start:]
    width = max(len(row) for row in rows)
    columns = [[row[i] for row in rows if i < len(row) and row[i]] for i in range(width)]
    roles = _by_name(cells[start - 1]) if header else [""] * width
    roles += [""] * (width - len(roles))
    roles = _by_content(columns, roles[:width])
    if "time" not in roles or "id" not in roles:
        return None
    unit = _unit(columns[roles.index("time")], cells[start - 1][roles.index("time")] if header else "")
    ids = columns[roles.index("id")]
    hex_ids = any(re.search(r"[A-Fa-f]", i) for i in ids) or any(i.lower().startswith("0x") for i in ids)
    hex_ids = hex_ids or all(len(i) in (3, 8) for i in ids)
    payload = [cell for i, role in enumerate(roles) if role in ("payload", "byte") for cell in columns[i]]
    three = any(re.fullmatch(r"\d{3}", word) for cell in payload for word in cell.split())
    hex_payload = not three or any(re.search(r"[A-Fa-f]", cell) for cell in payload)
    layout = Layout(
        separator,
        tuple(role.replace("?", "-") or "-" for role in _shortened(roles)),
        header,
        0,
        unit,
        hex_ids,
        hex_payload,
    )
    skip = start - (1 if header else 0)
    score = counts.count(usual) / len(counts) + 0.1 * min(sum(r not in ("", "-") for r in roles), 6)
    return score, replace(layout, skip=skip)


def _by_name(titles: list[str]) -> list[str]:
    found: list[str] = []
    for title in titles:
        word = re.sub(r"[\s_()\[\]./]+", " ", title).strip().lower().replace(" ", "_")
        role = next((r for r, pattern in _NAMES if re.fullmatch(pattern.replace(" ", "_"), word)), "?")
        if role in found and role != "byte":
            role = "-"
        # One whose title says nothing may still hold what must be there.
        found.append(role)
    return found


def _by_content(columns: list[list[str]], roles: list[str]) -> list[str]:
    free = [i for i, role in enumerate(roles) if not role]
    untold = [i for i, role in enumerate(roles) if role in ("", "?")]

    def first(fits: Any, among: list[int]) -> int | None:
        return next((i for i in among if columns[i] and all(fits(c) for c in columns[i])), None)

    def give(role: str, fits: Any) -> None:
        if role not in roles:
            among = untold if role in ("time", "id", "payload") else free
            place = first(fits, [i for i in among if roles[i] in ("", "?")])
            if place is not None:
                roles[place] = role

    give("time", lambda c: re.fullmatch(r"\(?\d+[.,]\d+\)?|(\d{4}-\d\d-\d\d[T ])?\d+:\d\d(:\d\d)?([.,]\d+)?Z?", c))
    if "time" not in roles and free and columns[free[0]] and all(c.isdigit() for c in columns[free[0]]):
        values = [int(c) for c in columns[free[0]]]
        if len(values) > 2 and values == sorted(values) and values[0] != values[-1]:
            roles[free[0]] = "time"
    give("dir", lambda c: c.lower() in ("rx", "tx", "r", "t", "in", "out"))
    give("payload", lambda c: re.fullmatch(r"([0-9A-Fa-f]{2}[ \-:.]?){2,}", c) and len(re.sub(r"\W", "", c)) > 3)
    give("payload", lambda c: re.fullmatch(r"\d{1,3}( \d{1,3})+", c))
    give("id", lambda c: re.fullmatch(r"(0[xX])?[0-9A-Fa-f]{2,8}[hHxX]?", c))
    tiny = re.compile(r"[0-9A-Fa-f]{1,2}|\d{1,3}")
    small = [i for i in free if not roles[i] and columns[i] and all(tiny.fullmatch(c) for c in columns[i])]
    if "payload" not in roles and "byte" not in roles and len(small) > 1:
        # One column per byte: the last columns; what comes before them is the length.
        if len(small) > 2 and all(c.isdigit() and int(c) <= 64 for c in columns[small[0]]):
            roles[small.pop(0)] = "dlc"
        for place in small:
            roles[place] = "byte"
    elif small and "dlc" not in roles and "len" not in roles:
        roles[small[0]] = "dlc"
    if "bus" not in roles:
        for place in [i for i in free if not roles[i] and columns[i]]:
            if len(set(columns[place])) <= 16:
                roles[place] = "bus"
                break
    return roles


def _shortened(roles: list[str]) -> list[str]:
    """One ``byte`` at the end stands for all that follow."""
    while len(roles) > 1 and roles[-1] == "byte" and roles[-2] == "byte":
        roles = roles[:-1]
    return roles


def _is_number(cell: str) -> bool:
    return bool(re.fullmatch(r"\(?(0[xX])?\d[0-9A-Fa-f]*([.,:\-T]\d+)*\)?", cell))


def _unit(times: list[str], title: str) -> str:
    if any("-" in t for t in times):
        return "date"
    if any(":" in t for t in times):
        return "clock"
    said = [_UNIT_WORDS[word] for word in re.split(r"[^a-zµμ]+", title.lower()) if word in _UNIT_WORDS]
    if said:
        return said[-1]
    if not any(re.search(r"[.,]", t) for t in times):
        largest = max(float(re.sub(r"\D", "", t) or 0) for t in times)
        return "ns" if largest > 1e17 else "us" if largest > 1e14 else "ms" if largest > 1e11 else "us"
    return "s"


def fingerprint(head: bytes) -> str:
    """What tells texts of one layout: the first line if it is a header, else the shape of its cells."""
    first = head.decode("utf-8-sig", "replace").split("\n", 1)[0].strip()
    if _is_number(re.split(r"[,;|\s]", first)[0]):
        first = re.sub(r"[0-9A-Fa-f]+", "0", first)
    return hashlib.sha256(first.encode()).hexdigest()[:16]


def remembered(head: bytes) -> Layout | None:
    """The layout that a person set for texts like this one."""
    kept: Layout | str | None = setting("layouts", fingerprint(head), None, Layout | str)
    try:
        # Taken through its words, each of which is checked. Earlier, the words were kept.
        words = kept.words() if isinstance(kept, Layout) else kept
        return Layout("comma", ()).corrected(words) if words is not None else None
    except InputError:
        return None


def remember(head: bytes, layout: Layout) -> None:
    """Remember the layout for texts like this one."""
    remember_setting("layouts", fingerprint(head), layout)
