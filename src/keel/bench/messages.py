"""The messages of *Tern*: who sends what, how often, and what the bytes mean.

Bus A is CAN FD (500 kbit/s, 2 Mbit/s), 11-bit identifiers; bus B is CAN 2.0B (250 kbit/s), 29-bit identifiers with
J1939 numbering: in public parameter groups is what SAE J1939-71 puts there (engine hours, coolant, speed in km/h,
battery voltage), all else is in proprietary groups. What the builders published is the dictionary of a demo
recording; the fields listed in `UNPUBLISHED` are left for people to find.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from keel.model.bus import Bus
from keel.model.fields import BitField, Order
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message, Ranges, Role, Signal

BUSES = [
    Bus("A", 500_000, 2_000_000, assumed=False, fast_assumed=False),
    Bus("B", 250_000, 250_000, assumed=False, fast_assumed=False),
]


@dataclass(frozen=True)
class Part:
    """A signal and the column of the track that it carries; ``source`` is empty for counters and checksums."""

    signal: Signal
    source: str = ""


@dataclass(frozen=True)
class Plan:
    """A message and how it is sent. ``burst`` frames follow each other at ``spacing_ms`` in each cycle."""

    bus: str
    ident: int
    name: str
    cycle_ms: float
    size: int
    parts: tuple[Part, ...] = ()
    fd: bool = False
    jitter_ms: float = 0.1
    fixed: bytes = b""
    burst: int = 1
    spacing_ms: float = 0.0
    pages: int = 1
    texts: tuple[bytes, ...] = field(default=())

    @property
    def form(self) -> Form:
        """Bus A has 11-bit identifiers, bus B 29-bit ones."""
        return Form.BASE if self.bus == "A" else Form.EXTENDED


def _part(
    name: str, start: int, length: int, source: str = "", scale: float = 1.0, offset: float = 0.0, unit: str = "",
    order: Order = "little", signed: bool = False, role: Role = "value", texts: dict[int, str] | None = None,
    page: int | None = None, absent: Ranges = (),
) -> Part:  # fmt: skip
    pages = () if page is None else ((page, page),)
    where = BitField(start, length, order, signed)
    return Part(Signal(name, where, scale, offset, unit, texts or {}, role, pages, absent=absent), source)


def _counter(start: int, length: int = 4) -> Part:
    return _part("counter", start, length, role="counter")


def _sum(start: int) -> Part:
    return _part("sum", start, 8, role="checksum")


def _pod(side: str) -> tuple[Part, ...]:
    return (
        _part("speed", 0, 16, f"{side}_rpm", 0.25, unit="1/min"),
        _part("torque", 16, 16, f"{side}_nm", 0.5, unit="Nm", signed=True),
        _part("temperature", 32, 8, f"{side}_temp_c", 1, -40, "°C"),
        _counter(48),
        _sum(56),
    )


def _pack(n: str) -> tuple[Part, ...]:
    return (
        _part("voltage", 7, 16, f"volts{n}", 0.1, unit="V", order="big"),
        _part("current", 23, 16, f"amps{n}", 0.1, -1000, "A", order="big"),
        _part("charge", 32, 8, f"charge{n}_pct", 0.5, unit="%"),
        _part("temperature", 40, 8, f"pack{n}_c", 0.5, -40, "°C", absent=((255, 255),)),
        _counter(48),
        _sum(56),
    )


def _cells(n: str) -> tuple[Part, ...]:
    return tuple(_part(f"cell{i + 1}", 16 * i, 16, f"volts{n}/cell{i}", 0.001, unit="V") for i in range(24))


_YES = {0: "no", 1: "yes"}
_OPEN = {0: "closed", 1: "open"}

PLANS: tuple[Plan, ...] = (
    Plan("A", 0x0A4, "HelmCommand", 10, 8, (
        _part("lever", 0, 10, "lever_pct", 0.1, unit="%"),
        _part("wheel", 16, 16, "wheel_deg", 0.01, unit="°", signed=True),
        _counter(48), _sum(56)), fd=True),
    Plan("A", 0x0A6, "ThrusterCommand", 20, 4, (
        _part("way", 0, 2, "thruster_command", signed=True, texts={-1: "port", 0: "off", 1: "starboard"}),
        _counter(24)), fd=True),
    Plan("A", 0x0B0, "PodPortFeedback", 10, 8, _pod("port"), fd=True),
    Plan("A", 0x0B1, "PodStarFeedback", 10, 8, _pod("star"), fd=True),
    Plan("A", 0x0B8, "ThrusterState", 20, 6, (
        _part("speed", 0, 16, "thruster_rpm", 0.5, unit="1/min", signed=True),
        _part("current", 16, 12, "thruster_amps", 0.1, unit="A"), _counter(40)), fd=True),
    Plan("A", 0x0C0, "SteeringAngle", 10, 6, (
        _part("rudder", 7, 16, "rudder_deg", 0.01, unit="°", order="big", signed=True), _counter(32)), fd=True),
    Plan("A", 0x120, "Attitude", 20, 8, (
        _part("roll", 0, 16, "roll_deg", 0.01, unit="°", signed=True),
        _part("pitch", 16, 16, "pitch_deg", 0.01, unit="°", signed=True),
        _part("yaw", 32, 16, "yaw_deg_s", 0.01, unit="°/s", signed=True), _counter(56, 8)), fd=True),
    Plan("A", 0x1A0, "PackOneStatus", 100, 8, _pack(""), fd=True, jitter_ms=0.6),
    Plan("A", 0x1A1, "PackTwoStatus", 100, 8, _pack("2"), fd=True, jitter_ms=0.6),
    Plan("A", 0x1A8, "PackOneCells", 200, 48, _cells(""), fd=True, jitter_ms=0.9),
    Plan("A", 0x1A9, "PackTwoCells", 200, 48, _cells("2"), fd=True, jitter_ms=0.9),
    Plan("A", 0x1C2, "ShoreLink", 500, 8, (
        _part("linked", 0, 1, "shore", role="flag", texts=_YES), _part("charge", 8, 8, "charge_pct", 0.5, unit="%"),
        _counter(56, 8)), jitter_ms=1.5),
    Plan("A", 0x1C3, "ShorePartner", 500, 4, (
        _part("request", 0, 12, "amps", 0.5, unit="A"), _counter(24)), jitter_ms=1.5),
    Plan("A", 0x220, "BowRampState", 50, 4, (
        _part("angle", 7, 12, "ramp_deg", 0.1, unit="°", order="big"),
        _part("lock", 10, 2, "ramp_locked", texts={0: "free", 1: "engaged"}),
        _part("supply", 16, 8, "volts/24", 0.1, 10, "V"),
        _counter(28), _part("sum", 24, 4, role="checksum")), jitter_ms=0.4),
    Plan("A", 0x221, "BowRampPanel", 50, 2, (
        _part("command", 8, 2, "ramp_command", texts={0: "stop", 1: "up", 2: "down"}),), jitter_ms=0.4,
        fixed=b"\x3c"),
    Plan("A", 0x2F0, "BilgeLevels", 250, 8, (
        _part("fore", 0, 12, "bilge_mm", 0.1, unit="mm"), _part("aft", 12, 12, "bilge_aft_mm", 0.1, unit="mm"),
        _part("pump", 24, 1, "pump", role="flag", texts={0: "off", 1: "on"}), _counter(56, 8)), jitter_ms=1.2),
    Plan("A", 0x310, "TrimTabs", 50, 6, (
        _part("port", 0, 10, "trim_deg", 0.05, -10, "°"), _part("starboard", 16, 10, "trim_star_deg", 0.05, -10, "°"),
        _counter(40)), jitter_ms=0.5),
    Plan("A", 0x320, "Position", 100, 24, (
        _part("latitude", 0, 32, "lat_deg", 1e-7, unit="°", signed=True),
        _part("longitude", 32, 32, "lon_deg", 1e-7, unit="°", signed=True),
        _part("speed", 64, 16, "speed_kn", 0.01, unit="kn"), _part("heading", 80, 16, "heading_deg", 0.01, unit="°"),
        _counter(184, 8)), fd=True, jitter_ms=0.8),
    Plan("A", 0x3C0, "ClockTick", 1000, 8, (_part("seconds", 0, 32, "time_s", unit="s"),), jitter_ms=0.2),
    Plan("A", 0x3D0, "DriveDiagnosis", 100, 8, (
        _part("page", 0, 8, role="selector"),
        _part("portTorque", 8, 16, "port_nm", 0.5, unit="Nm", signed=True, page=0),
        _part("starTorque", 24, 16, "star_nm", 0.5, unit="Nm", signed=True, page=0),
        _part("portTemperature", 8, 8, "port_temp_c", 0.5, -40, "°C", page=1),
        _part("starTemperature", 16, 8, "star_temp_c", 0.5, -40, "°C", page=1),
        _part("hours", 8, 32, "hours", 0.05, unit="h", page=2),
        _counter(56, 8)), pages=3, jitter_ms=0.8),
    Plan("A", 0x4F0, "AliveHelm", 500, 1, (_counter(0, 8),), jitter_ms=2),
    Plan("A", 0x4F1, "AlivePods", 500, 1, (_counter(0, 8),), jitter_ms=2),
    Plan("A", 0x4F2, "AlivePacks", 500, 1, (_counter(0, 8),), jitter_ms=2),
    Plan("B", 0x0CFF2A17, "GensetSpeed", 20, 8, (
        _part("speed", 24, 16, "genset_rpm", 0.125, unit="1/min"), _part("power", 40, 8, "genset_kw", 0.25, unit="kW"),
        _counter(56, 8)), jitter_ms=0.3),
    Plan("B", 0x18FF0917, "CoolantLoop", 500, 8, (
        _part("temperature", 0, 8, "coolant_c", 1, -40, "°C"), _part("oil", 24, 8, "oil_bar", 0.04, unit="bar"),
        _counter(56, 8)), jitter_ms=3),
    Plan("B", 0x18FECA17, "ActiveFaults", 1000, 8, (), jitter_ms=4, fixed=bytes.fromhex("40FF6E0003010000")),
    Plan("B", 0x18FF4021, "CabinClimate", 1000, 8, (
        _part("temperature", 0, 16, "cabin_c", 0.03125, -273, "°C"),
        _part("wanted", 16, 8, "cabin_wanted_c", 0.5, unit="°C"), _part("fan", 24, 8, "fan_pct", 0.4, unit="%"),
        _counter(56, 8)), jitter_ms=5),
    Plan("B", 0x1CECFF17, "LongMessageStart", 1000, 8, (), jitter_ms=1, fixed=bytes.fromhex("201C0004FF17FF00")),
    Plan("B", 0x1CEBFF17, "LongMessage", 1000, 8, (_part("packet", 0, 8, role="counter"),), jitter_ms=2,
        burst=4, spacing_ms=50, texts=(b"TERN ha", b"rbour f", b"erry 04", b"1 ready")),
    Plan("B", 0x18EF2117, "DoorSwitches", 100, 8, (
        _part("fore", 0, 2, "door-fore", role="flag", texts=_OPEN),
        _part("aft", 2, 2, "door-aft", role="flag", texts=_OPEN),
        _part("lights", 8, 2, "lights", role="flag", texts={0: "off", 1: "on"})), jitter_ms=2,
        fixed=bytes.fromhex("0000FFFFFFFFFFFF")),
    Plan("B", 0x18FF4121, "TankLevels", 1000, 8, (
        _part("fuel", 8, 8, "fuel_pct", 0.4, unit="%"), _part("water", 16, 8, "water_pct", 0.4, unit="%")),
        jitter_ms=6, fixed=b"\xff" * 8),
    Plan("B", 0x18FEE517, "RunningHours", 1000, 8, (_part("hours", 0, 32, "hours", 0.05, unit="h"),), jitter_ms=4,
        fixed=b"\xff" * 8),
    Plan("B", 0x18FEEE17, "GensetTemperatures", 1000, 8, (
        _part("coolant", 0, 8, "coolant_c", 1, -40, "°C"),), jitter_ms=4, fixed=b"\xff" * 8),
    Plan("B", 0x18FEF117, "HotelSpeed", 100, 8, (
        _part("speed", 8, 16, "speed_kmh", 1 / 256, unit="km/h"),), jitter_ms=2, fixed=b"\xff" * 8),
    Plan("B", 0x18FEF721, "HotelPower", 1000, 8, (
        _part("voltage", 32, 16, "volts/24", 0.05, unit="V"),), jitter_ms=4, fixed=b"\xff" * 8),
)  # fmt: skip

UNPUBLISHED = {
    "BowRampState": {"angle", "lock"},
    "BowRampPanel": {"command"},
    "ThrusterCommand": {"way"},
}
"""Signals that exist aboard but not in the published dictionary."""
NAMELESS = {"GensetTemperatures", "HotelSpeed"}
"""Messages of which the builders published nothing at all."""


def full_dictionary() -> Dictionary:
    """Everything there is to know."""
    return Dictionary(
        tuple(
            Message(plan.bus, plan.form, plan.ident, plan.name, tuple(part.signal for part in plan.parts))
            for plan in PLANS
        )
    )


def published_dictionary() -> Dictionary:
    """What the builders of the ferry let people know."""
    messages = []
    for message in full_dictionary().messages:
        if message.name not in NAMELESS:
            hidden = UNPUBLISHED.get(message.name, set())
            kept = tuple(s for s in message.signals if s.name not in hidden)
            messages.append(Message(message.bus, message.form, message.ident, message.name, kept))
    return Dictionary(tuple(messages))
