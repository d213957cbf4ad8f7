"""What went wrong with frames: one set of words for all kinds of line, as bits, so that a frame can carry several.

Each medium says which of them it can have, and what it means there.
"""

from __future__ import annotations

from enum import IntFlag


class Fault(IntFlag):
    """What went wrong with a frame on the line, or with its capture: each with its bit and its title.

    The names in lower case are what an ask takes. Bits are kept in recordings: a class more goes at the end, and
    there are 64.
    """

    title: str

    CRC = 0, "CRC"
    STUFF = 1, "stuff error"
    FORM = 2, "form error"
    ACK = 3, "not acknowledged"
    BIT = 4, "bit error"
    OVERLOAD = 5, "overload"
    BUS_OFF = 6, "bus off"
    WARNING = 7, "error warning"
    PASSIVE = 8, "error passive"
    LOST = 9, "lost while recording"
    ARBITRATION = 10, "arbitration lost"
    CONTROLLER = 11, "controller"
    TRANSCEIVER = 12, "transceiver"
    RESTARTED = 13, "controller restarted"
    OTHER = 14, "other"
    TRUNCATED = 15, "truncated"
    CHECKSUM = 16, "checksum"
    PARITY = 17, "parity"
    FRAMING = 18, "framing"
    BREAK = 19, "break"
    TIMEOUT = 20, "timeout"
    TIMING = 21, "timing"
    CALIBRATION = 22, "calibration"
    LENGTH = 23, "length"
    END_BIT = 24, "end bit"
    STALL = 25, "stalled"
    NO_RESPONSE = 26, "no response"
    SYNC = 27, "no sync"
    ERROR_FLAG = 28, "error flag"

    def __new__(cls, bit: int, title: str) -> Fault:
        """A class of fault."""
        fault = int.__new__(cls, 1 << bit)
        fault._value_ = 1 << bit
        fault.title = title
        return fault

    @property
    def word(self) -> str:
        """The name as an ask and the JSON output spell it."""
        return (self.name or "other").lower().replace("_", "-")


OF_THE_CAPTURE = int(Fault.LOST | Fault.TRUNCATED)
"""What the capture did to a frame."""
SPOILS_NOTHING = OF_THE_CAPTURE | int(Fault.ACK | Fault.END_BIT | Fault.TIMING)
"""Faults that leave identifier and payload whole, whatever the line: they exclude a frame from no counts, cycles,
values or evidence. Each medium says of its faults what they spoil; what it says agrees with this."""
FAULT_BY_WORD: dict[str, Fault] = {fault.word: fault for fault in Fault}


def fault_words(mask: int) -> list[str]:
    """The words of all faults set in ``mask``, lowest bit first; a bit that nobody knows, as of a later Keel, too."""
    known = [fault.word for fault in Fault if mask & fault]
    rest = mask & ~sum(Fault)
    return known + [f"fault-{bit}" for bit in range(rest.bit_length()) if rest >> bit & 1]
