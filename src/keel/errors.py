"""Everything that can go wrong, as one tree.

    KeelError
    ├── InputError            a file or stream is not what it should be   (also ValueError)
    │   └── UnknownFormat     no reader recognises the content
    ├── RecordingError        a recording cannot be opened or written     (also OSError)
    │   ├── NotARecording
    │   ├── RecordingBusy     another recorder is writing to it
    │   └── RecordingDamaged  what stands in a file is not what was written
    ├── AskError              an ask does not parse or check              (also ValueError)
    ├── FieldError            a bit field does not fit                    (also ValueError)
    └── ControlError          a bench control does not exist or refuses   (also ValueError)

Each carries its data (where, what, expected) besides the sentence. The command line and the app
turn them into words, each in one place.
"""

from __future__ import annotations


class KeelError(Exception):
    """Base of every error that Keel raises on purpose."""


class InputError(KeelError, ValueError):
    """A file or stream is not what it should be.

    Attributes:
        where: The file, and the place in it if known.
        what: What was found.
        expected: What should have been there.
    """

    def __init__(self, where: str, what: str, expected: str = "") -> None:
        self.where, self.what, self.expected = where, what, expected
        super().__init__(f"{where}: {what}" + (f"; expected {expected}" if expected else ""))


class UnknownFormat(InputError):
    """No reader recognises the content."""


class RecordingError(KeelError, OSError):
    """A recording cannot be opened or written."""

    def __init__(self, where: str, what: str) -> None:
        self.where, self.what = where, what
        super().__init__(f"{where}: {what}")


class NotARecording(RecordingError):
    """The path holds no recording."""


class RecordingBusy(RecordingError):
    """Another recorder is writing to the recording."""


class RecordingDamaged(RecordingError):
    """What stands in a file is not what was written."""


class AskError(KeelError, ValueError):
    """An ask does not parse or check.

    Attributes:
        position: Where in the text, counted from 0.
        what: What is wrong there.
        expected: What could stand there, best first.
        is_guess: Whether that is what was probably meant.
    """

    def __init__(self, position: int, what: str, expected: tuple[str, ...] = (), is_guess: bool = False) -> None:
        self.position, self.what, self.expected, self.is_guess = position, what, expected, is_guess
        hint = ""
        if expected:
            offered = " or ".join(expected[:4])
            hint = f"; did you mean {offered}?" if is_guess else f"; expected {offered}"
        super().__init__(f"at {position + 1}: {what}{hint}")


class FieldError(KeelError, ValueError):
    """A bit field does not fit in a payload or an integer."""


class ControlError(KeelError, ValueError):
    """A bench control does not exist or does not take the value."""
