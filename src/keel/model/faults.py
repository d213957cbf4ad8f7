"""Fault classes as bits, so that a frame can carry several and a column of them stays an integer."""

from __future__ import annotations

from enum import IntFlag


class Fault(IntFlag):
    """What went wrong with a frame on the line: each class with its bit, its title, and what it means in a sentence.

    The names in lower case are what an ask takes. Bits are kept in recordings: a class more goes at the end.
    """

    title: str
    sentence: str

    CRC = 0, "CRC", "the checksum that was sent does not fit the bits that came"
    STUFF = 1, "stuff error", "six equal bits in a row, where the sixth had to differ"
    FORM = 2, "form error", "a bit with a fixed level had the other one"
    ACK = 3, "not acknowledged", "no other node acknowledged the frame"
    BIT = 4, "bit error", "the sender read back another level than it sent"
    OVERLOAD = 5, "overload", "a node asked for a pause"
    BUS_OFF = 6, "bus off", "the controller left the bus after too many errors"
    WARNING = 7, "error warning", "an error counter passed the warning level"
    PASSIVE = 8, "error passive", "the controller may no longer signal errors actively"
    LOST = 9, "lost while recording", "frames were lost before they could be recorded"
    ARBITRATION = 10, "arbitration lost", "the sender lost arbitration"
    CONTROLLER = 11, "controller", "the controller reported a problem"
    TRANSCEIVER = 12, "transceiver", "the transceiver reported a problem"
    RESTARTED = 13, "controller restarted", "the controller was started again"
    OTHER = 14, "other", "the capture names no class that is known"
    TRUNCATED = 15, "truncated", "the capture kept only the first bytes of the payload"

    def __new__(cls, bit: int, title: str, sentence: str) -> Fault:
        """A class of fault."""
        fault = int.__new__(cls, 1 << bit)
        fault._value_ = 1 << bit
        fault.title, fault.sentence = title, sentence
        return fault

    @property
    def word(self) -> str:
        """The name as an ask and the JSON output spell it."""
        return (self.name or "other").lower().replace("_", "-")


FAULT_BY_WORD: dict[str, Fault] = {fault.word: fault for fault in Fault}


def fault_words(mask: int) -> list[str]:
    """The words of all faults set in ``mask``, lowest bit first."""
    return [fault.word for fault in Fault if mask & fault]
