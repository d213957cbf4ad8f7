"""Fault classes as bits, so that a frame can carry several and a column of them stays an integer."""

from __future__ import annotations

from enum import IntFlag


class Fault(IntFlag):
    """What went wrong with a frame on the line. The names in lower case are what an ask takes."""

    CRC = 1 << 0
    STUFF = 1 << 1
    FORM = 1 << 2
    ACK = 1 << 3
    BIT = 1 << 4
    OVERLOAD = 1 << 5
    BUS_OFF = 1 << 6
    WARNING = 1 << 7
    PASSIVE = 1 << 8
    LOST = 1 << 9
    ARBITRATION = 1 << 10
    CONTROLLER = 1 << 11
    TRANSCEIVER = 1 << 12
    RESTARTED = 1 << 13
    OTHER = 1 << 14
    TRUNCATED = 1 << 15

    @property
    def word(self) -> str:
        """The name as an ask and the JSON output spell it."""
        return (self.name or "other").lower().replace("_", "-")

    @property
    def title(self) -> str:
        """The name as a person reads it."""
        return TITLES[self]


TITLES: dict[Fault, str] = {
    Fault.CRC: "CRC",
    Fault.STUFF: "bit stuffing",
    Fault.FORM: "form",
    Fault.ACK: "not acknowledged",
    Fault.BIT: "bit",
    Fault.OVERLOAD: "overload",
    Fault.BUS_OFF: "bus off",
    Fault.WARNING: "error warning",
    Fault.PASSIVE: "error passive",
    Fault.LOST: "lost while recording",
    Fault.ARBITRATION: "arbitration lost",
    Fault.CONTROLLER: "controller",
    Fault.TRANSCEIVER: "transceiver",
    Fault.RESTARTED: "controller restarted",
    Fault.OTHER: "other",
    Fault.TRUNCATED: "truncated",
}

FAULT_BY_WORD: dict[str, Fault] = {fault.word: fault for fault in Fault}


def fault_words(mask: int) -> list[str]:
    """The words of all faults set in ``mask``, lowest bit first."""
    return [fault.word for fault in Fault if mask & fault]
