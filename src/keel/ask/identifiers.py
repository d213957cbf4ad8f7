"""Identifiers in an ask: one, a range, with any digit, none."""

from __future__ import annotations

import re
from dataclasses import replace

from lark import Token

from keel.ask import terms
from keel.errors import AskError
from keel.media.every import form_with_digits, forms, narrowest_digits, read_ident, read_range
from keel.model.globs import unquoted
from keel.model.identity import IDENT_BITS, IDENT_MASK, NO_IDENT

IDENTIFIER = "an identifier in hex, as 1A0 or 1A0..1AF or 18FE??17; an address, as C6:12:34:56:78:9A"
ITEM = (
    r'none(?!\w)|"[^"]*"|([0-9A-F?]{2}:){5}[0-9A-F?]{2}|\d+\.\d+(\.\d+)?(?![\w.])'
    r"|(0x)?[0-9A-Z?]{1,12}(\.\.(0x)?[0-9A-Z?]{1,12})?"
)
"""Anything that could be meant for an identifier: what is none is explained better than by the grammar."""
HEX = r"(0x)?[0-9A-Z?]{1,12}(\.\.(0x)?[0-9A-Z?]{1,12})?"
LETTERS = str.maketrans("OIL", "011")
"""Letters that are typed for the digits they look like."""


def id_range(item: Token) -> terms.IdRange:
    """The identifiers that an item means."""
    at = item.start_pos or 0
    if item.lower() == terms.WITHOUT:
        return terms.IdRange(0, 0, None, NO_IDENT)
    written_so = unquoted(item) if item.startswith('"') else str(item)
    is_read = any(read_ident(form, written_so) or read_range(form, written_so) for form in forms())
    if not re.fullmatch(HEX, item, re.IGNORECASE):
        if not is_read:
            raise AskError(at, f"{item} is no identifier", (IDENTIFIER,))
        return terms.IdRange(1, 0, None, None, written_so)
    if is_read:
        # Whatever forms write it in hex have it, too.
        return replace(_in_hex(item, at), text=written_so)
    return _in_hex(item, at)


def _in_hex(item: Token, at: int) -> terms.IdRange:
    for number in re.sub("0x", "", item, flags=re.IGNORECASE).split(".."):
        if number and not re.fullmatch(r"[0-9A-Fa-f?]+", number):
            raise _no_hex(item, number)
    text = item.upper().replace("0X", "")
    low_text, _, high_text = text.partition("..")
    digits = max(len(low_text), len(high_text))
    written = form_with_digits(digits)
    if written is not None and high_text and digits > narrowest_digits():
        # A range may be written with the digits it needs, whatever the form.
        written = None
    form = written.number if written is not None else None
    most = written.most if written is not None else IDENT_MASK
    if "?" in text and high_text:
        raise AskError(at, f"“{item}” mixes ? with a range", ("18FE??17", "1A0..1AF"))
    low = int(low_text.replace("?", "0"), 16)
    if low > most:
        bits, wider = written.bits if written is not None else IDENT_BITS, form_with_digits(digits + 1)
        longer = (f"id:{low_text.rjust(wider.digits, '0')}",) if wider is not None and wider != written else ()
        raise AskError(at, f"“{item}” is more than {bits} bits hold; no identifier is so great", longer)
    if "?" in low_text:
        wild = int("".join("F" if c == "?" else "0" for c in low_text), 16)
        whole = (1 << 4 * written.digits) - 1 if written is not None else IDENT_MASK
        return terms.IdRange(low, 0, whole & ~wild, form)
    high = int(high_text, 16) if high_text else low
    if high < low:
        raise AskError(at, f"“{item}” ends before it begins", (f"{high_text}..{low_text}",))
    return terms.IdRange(low, high, None, form)


def _no_hex(item: Token, number: str) -> AskError:
    """What is no hex number; a letter that looks like a digit is pointed at."""
    at = (item.start_pos or 0) + item.index(number)
    odd = next((c for c in number if c.upper() in "OIL"), None)
    meant = number.upper().translate(LETTERS)
    if odd is not None and re.fullmatch(r"[0-9A-F?]+", meant):
        return AskError(at, f"“{number}” is no hex number (the letter {odd}?)", (f"id:{meant}",), is_guess=True)
    return AskError(at, f"“{number}” is no hex number", (IDENTIFIER,))


def check_identifiers(text: str) -> None:
    """Look at the identifiers of a text that does not parse further on: what is wrong first is said first.

    Raises:
        AskError: one of them is none.
    """
    for found in re.finditer(r"(?<![^\s(])id:([^\s()]+)", text, re.IGNORECASE):
        at = found.start(1)
        for item in found[1].split(","):
            if re.fullmatch(ITEM, item, re.IGNORECASE):
                id_range(Token("ID_ITEM", item, start_pos=at))
            at += len(item) + 1
