"""What an identifier is called in asks, and what its row says of itself."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture


def ask_for(picture: Picture, key: int) -> str:
    """The ask that leaves one identifier, whatever else is asked."""
    from keel.ask.narrowing import of_key_among

    return str(of_key_among(key, picture.bus_name(key), picture.keys))


def terms_of(picture: Picture, key: int) -> list[str]:
    """What an identifier's row says of itself, as terms of an ask."""
    from keel.ask.narrowing import of_bus, of_message
    from keel.media.every import key_words

    terms = [ask_for(picture, key), str(of_bus(picture.bus_name(key)))]
    if key in picture.messages:
        terms.append(str(of_message(picture.name(key))))
    words = key_words(key)
    if len(words) == 3:
        terms.append(f"id:{words[:2]}?")
    elif len(words) == 8:
        terms.append(f"id:{words[:6]}??")
    if picture.census[key].changes:
        terms.append("moved")
    if picture.census[key].faults:
        terms.append("fault")
    return terms
