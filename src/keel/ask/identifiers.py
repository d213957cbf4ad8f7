"""Identifiers in an ask: one, a range, with any digit, none."""

from __future__ import annotations

import re

from lark import Token

from keel.ask import terms
from keel.errors import AskError
from keel.model.identity import EXTENDED_ID_MAX, IDENT_MASK, Form

IDENTIFIER = "an identifier in hex, as 1A0 or 1A0..1AF or 18FE??17"
ITEM = r"none(?!\w)|(0x)?[0-9A-Z?]{1,12}(\.\.(0x)?[0-9A-Z?]{1,12})?"
"""Anything that could be meant for an identifier: what is none is explained better than by the grammar."""
LETTERS = str.maketrans("OIL", "011")
"""Letters that are typed for the digits they look like."""


def id_range(item: Token) -> terms.IdRange:
    """The identifiers that an item means."""
    at = item.start_pos or 0
    if item.lower() == terms.NO_IDENT:
        return terms.IdRange(0, 0, None, Form.NONE)
    for number in re.sub("0x", "", item, flags=re.IGNORECASE).split(".."):
        if number and not re.fullmatch(r"[0-9A-Fa-f?]+", number):
            raise _no_hex(item, number)
    text = item.upper().replace("0X", "")
    low_text, _, high_text = text.partition("..")
    digits = max(len(low_text), len(high_text))
    form = Form.BASE if digits <= 3 else Form.EXTENDED if digits <= 8 and not high_text else None
    most = {Form.BASE: 0x7FF, Form.EXTENDED: EXTENDED_ID_MAX}.get(form, IDENT_MASK) if form is not None else IDENT_MASK
    if "?" in text and high_text:
        raise AskError(at, f"“{item}” mixes ? with a range", ("18FE??17", "1A0..1AF"))
    low = int(low_text.replace("?", "0"), 16)
    if low > most:
        bits = 11 if form == Form.BASE else 29
        longer = (f"id:{low_text.rjust(8, '0')}",) if form == Form.BASE else ()
        raise AskError(at, f"“{item}” is more than {bits} bits hold; no identifier is so great", longer)
    if "?" in low_text:
        wild = int("".join("F" if c == "?" else "0" for c in low_text), 16)
        whole = {Form.BASE: 0xFFF, Form.EXTENDED: 0xFFFF_FFFF}.get(form, IDENT_MASK) if form is not None else IDENT_MASK
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
