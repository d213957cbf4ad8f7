"""CAN interfaces of the machine: which there are, how they stand, and how their rate is set."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

NETWORK = Path("/sys/class/net")
ARPHRD_CAN = "280"
IFF_UP = 1
PATIENCE_S = 5.0

Run = Callable[[Sequence[str]], "tuple[int, str]"]


@dataclass(frozen=True)
class Interface:
    """A CAN interface.

    Attributes:
        is_up: Whether it takes part.
        bit_rate, fast_bit_rate: In bit/s; 0 if that is not known, as of virtual ones.
        listens_only: Whether its controller only listens.
        is_virtual: Whether there is no wire.
    """

    name: str
    is_up: bool = False
    bit_rate: int = 0
    fast_bit_rate: int = 0
    listens_only: bool = False
    is_virtual: bool = False


def run(command: Sequence[str]) -> tuple[int, str]:
    """Run a command of the system; its exit code, and what it said. 127 if it is not there."""
    if shutil.which(command[0]) is None:
        return 127, f"{command[0]} is not installed"
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=PATIENCE_S, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        return 1, str(error)
    return done.returncode, done.stdout or done.stderr


def interfaces(network: Path = NETWORK, do: Run = run) -> list[Interface]:
    """The CAN interfaces there are, by name."""
    found = []
    try:
        folders = sorted(network.iterdir())
    except OSError:
        return []
    for folder in folders:
        if _text(folder / "type") == ARPHRD_CAN:
            found.append(_looked_at(folder, do))
    return found


def _text(path: Path) -> str:
    try:
        return path.read_text().strip()
    except (OSError, UnicodeDecodeError):
        return ""


def _looked_at(folder: Path, do: Run) -> Interface:
    try:
        is_up = bool(int(_text(folder / "flags") or "0", 16) & IFF_UP)
    except ValueError:
        is_up = False
    said = _details(folder.name, do)
    data = said.get("info_data") if isinstance(said.get("info_data"), dict) else {}
    assert isinstance(data, dict)
    return Interface(
        folder.name,
        is_up,
        _rate(data.get("bittiming")),
        _rate(data.get("data_bittiming")),
        "LISTEN-ONLY" in (data.get("ctrlmode") or ()),
        said.get("info_kind") == "vcan",
    )


def _rate(timing: object) -> int:
    found = timing.get("bitrate") if isinstance(timing, dict) else 0
    return found if isinstance(found, int) and not isinstance(found, bool) and found > 0 else 0


def _details(name: str, do: Run) -> dict[str, Any]:
    """What the system says of an interface; nothing where it cannot be asked."""
    code, said = do(["ip", "-details", "-json", "link", "show", name])
    try:
        found = json.loads(said) if code == 0 else []
        info = found[0]["linkinfo"] if found else {}
        return info if isinstance(info, dict) else {}
    except (ValueError, KeyError, TypeError, IndexError):
        return {}


def command_for(name: str, rate: int, listen_only: bool = True) -> str:
    """The commands that set a rate, for a person to run."""
    mode = " listen-only on" if listen_only else ""
    return f"sudo ip link set {name} down; sudo ip link set {name} up type can bitrate {rate}{mode}"


def may_set() -> bool:
    """Whether this process may set rates."""
    return os.geteuid() == 0


def set_rate(name: str, rate: int, do: Run = run) -> str:
    """Take an interface up at a rate, only listening; returns what is wrong, empty if nothing."""
    code, said = do(["ip", "link", "set", name, "up", "type", "can", "bitrate", str(rate), "listen-only", "on"])
    return "" if code == 0 else said.strip()


def take_down(name: str, do: Run = run) -> None:
    """Take an interface down again."""
    do(["ip", "link", "set", name, "down"])
