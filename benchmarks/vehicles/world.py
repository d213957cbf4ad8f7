"""What goes on in a random vehicle during a drive: quantities over time, some of which follow others.

Everything lies on a grid of `STEP_S` seconds. The same vehicle can go on another drive: what it has is drawn from
one seed, what happens from another.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

STEP_S = 0.01
Floats = npt.NDArray[np.float64]
Rng = np.random.Generator


@dataclass(eq=False)
class Quantity:
    """Something the vehicle knows.

    Attributes:
        kind: ``value``, ``flag`` or ``enum``.
        values: On the grid, shape (steps,).
        steps: Scales an engineer would choose for it.
        offsets: Offsets, likewise.
        reach: Least and greatest value the field must hold.
        family: Quantities of one family are copies of each other, or nearly.
    """

    name: str
    kind: str
    values: Floats
    steps: tuple[float, ...] = (1.0,)
    offsets: tuple[float, ...] = (0.0,)
    reach: tuple[float, float] = (0.0, 1.0)
    family: str = ""

    def __post_init__(self) -> None:
        self.family = self.family or self.name


@dataclass(eq=False)
class World:
    """A drive of a vehicle."""

    seconds: float
    quantities: dict[str, Quantity] = field(default_factory=dict)

    def add(self, one: Quantity) -> None:
        """Add a quantity."""
        self.quantities[one.name] = one


def smooth(rng: Rng, n: int, tau_s: float) -> Floats:
    """A wandering process of unit size that forgets in ``tau_s`` seconds, twice filtered."""
    keep = np.exp(-STEP_S / tau_s)
    noise = rng.standard_normal(n)
    return _filtered(_filtered(noise, keep), keep, True)


def _filtered(x: Floats, keep: float, unit: bool = False) -> Floats:
    # A long convolution is cheaper than a loop over the grid.
    length = min(len(x), int(8 / (1 - keep)) + 1)
    kernel = keep ** np.arange(length)
    size = 1 << (len(x) + length).bit_length()
    out = np.fft.irfft(np.fft.rfft(x, size) * np.fft.rfft(kernel, size), size)[: len(x)]
    return (out - out.mean()) / (out.std() or 1.0) if unit else out * (1 - keep)


def held(rng: Rng, n: int, mean_s: float, draw: object) -> Floats:
    """Values held for random times; ``draw(count)`` gives them."""
    count = max(int(n * STEP_S / mean_s * 2) + 4, 4)
    lengths = np.maximum(rng.exponential(mean_s / STEP_S, count), 0.4 / STEP_S).astype(int)
    values = draw(count)  # type: ignore[operator]
    out = np.repeat(values, lengths)
    while len(out) < n:
        out = np.concatenate([out, out])
    return np.asarray(out[:n], np.float64)


def follow(target: Floats, tau_s: float) -> Floats:
    """A first-order lag behind ``target``."""
    start = target[0]
    return np.asarray(_filtered(target - start, float(np.exp(-STEP_S / tau_s))) + start)


def speed_profile(rng: Rng, n: int) -> Floats:
    """Speed in km/h: stops, accelerations, cruising."""
    out = np.zeros(n)
    at, speed = int(rng.uniform(1, 6) / STEP_S), 0.0
    while at < n:
        goal = (
            0.0
            if rng.random() < 0.25 and speed
            else float(rng.choice([30, 50, 50, 70, 90, 120]) * rng.uniform(0.7, 1.05))
        )
        rate = rng.uniform(4, 12) if goal > speed else rng.uniform(6, 18)
        steps = max(int(abs(goal - speed) / rate / STEP_S), 1)
        out[at : at + steps] = np.linspace(speed, goal, steps)[: max(n - at, 0)]
        at, speed = at + steps, goal
        stay = int(rng.uniform(2, 14) / STEP_S)
        out[at : at + stay] = speed
        at += stay
    out = follow(out, 0.6) + (follow(out, 0.6) > 1) * 0.6 * smooth(rng, n, 2.5)
    return np.clip(out, 0, 250)


LAMPS = ("low_beam", "high_beam", "brake_lamp", "left_turn", "right_turn", "fog", "cabin_light", "horn")
SWITCHES = (
    "door_fl",
    "door_fr",
    "door_rl",
    "door_rr",
    "boot",
    "belt",
    "handbrake",
    "ac_on",
    "defrost",
    "heater_seat",
    "lock",
    "warning_lamp",
    "pump",
    "fan",
    "wash",
    "key_in",
    "cruise_set",
    "sport",
    "eco",
    "parking",
)


def drive(rng: Rng, happening: Rng, seconds: float) -> World:
    """A drive: ``rng`` says what the vehicle has, ``happening`` what happens this time."""
    n = int(seconds / STEP_S)
    world = World(seconds)
    hap = happening

    def value(
        name: str,
        values: Floats,
        steps: tuple[float, ...],
        offsets: tuple[float, ...],
        reach: tuple[float, float],
        family: str = "",
    ) -> None:
        world.add(Quantity(name, "value", values, steps, offsets, reach, family))

    speed = speed_profile(hap, n)
    value("speed", speed, (0.01, 1 / 128, 1 / 256, 0.05, 0.0625, 0.1), (0.0,), (0, 250))
    steer = follow(held(hap, n, 5.0, lambda k: hap.normal(0, 80, k) * (hap.random(k) < 0.7)), 0.8)
    steer = steer + 2 * smooth(hap, n, 1.5)
    value("steering", steer, (0.1, 0.0625, 0.5), (0.0, -780.0, -800.0), (-780, 780))
    for i, wheel in enumerate(("fl", "fr", "rl", "rr")):
        side = 1 if i % 2 else -1
        bend = speed * (1 + side * steer / 40000) * (1 + rng.normal(0, 0.002))
        moving = speed > 0.5
        value(
            f"wheel_{wheel}",
            np.clip(bend + moving * hap.normal(0, 0.03, n), 0, 300),
            (0.01, 1 / 64, 1 / 256, 0.03125),
            (0.0, -10.0),
            (0, 300),
            "speed",
        )
    gear = np.digitize(speed, [2, 18, 35, 55, 80]).astype(float)
    ratio = np.array([0.0, 110, 62, 42, 31, 25])[gear.astype(int)]
    motor = (
        follow(np.where(gear > 0, np.maximum(speed * ratio, 800), 800.0), 0.25)
        + hap.normal(0, 6, n)
        + 20 * smooth(hap, n, 1.0)
    )
    value("motor_speed", motor, (0.125, 0.25, 0.5, 1.0), (0.0,), (0, 8000))
    accel = np.gradient(follow(speed, 0.3), STEP_S) / 3.6
    value(
        "pedal",
        np.clip(accel * 22 + speed * 0.12 + 1.5 * smooth(hap, n, 0.8), 0, 100),
        (0.4, 0.5, 1 / 2.55, 0.1),
        (0.0,),
        (0, 100),
    )
    brake = np.clip(-accel * 18, 0, 120)
    value(
        "brake_pressure", np.where(brake > 1, brake + smooth(hap, n, 0.5), 0), (0.1, 0.05, 0.5), (0.0, -5.0), (0, 160)
    )
    value(
        "yaw_rate",
        speed * steer / 900 + hap.normal(0, 0.12, n),
        (0.01, 0.02, 1 / 128),
        (0.0, -100.0, -163.84),
        (-100, 100),
    )
    value(
        "lateral",
        speed * speed * steer / 160000 + hap.normal(0, 0.03, n),
        (0.001, 0.01, 0.005),
        (0.0, -20.0),
        (-20, 20),
    )
    value("longitudinal", accel + hap.normal(0, 0.04, n), (0.001, 0.01, 0.005), (0.0, -20.0), (-20, 20))
    torque = accel * 60 + speed * 0.4 + 4 * smooth(hap, n, 0.5)
    value("torque", torque, (0.1, 0.5, 1.0, 0.125), (0.0, -500.0, -1000.0), (-500, 1000))
    # Temperatures that look alike.
    warm = follow(np.full(n, hap.uniform(75, 95)), hap.uniform(40, 120)) * 0
    start_t = hap.uniform(5, 60)
    warm = start_t + (hap.uniform(70, 95) - start_t) * (1 - np.exp(-np.arange(n) * STEP_S / hap.uniform(50, 200)))
    for i, name in enumerate(
        ("coolant", "oil", "gearbox", "inverter", "pack_temp", "cabin", "outside")[: rng.integers(4, 8)]
    ):
        own = (
            warm * rng.uniform(0.7, 1.0) + rng.uniform(-5, 8) if i < 4 else 20 + 4 * rng.standard_normal() + warm * 0.05
        )
        value(
            name,
            own + rng.uniform(0.4, 1.5) * smooth(hap, n, rng.uniform(4, 30)),
            (1.0, 0.5, 0.1, 0.75),
            (-40.0, -50.0, 0.0, -273.0),
            (-40, 160),
        )
    # Switches and lamps; the load current follows every lamp.
    current = 18 + 1.2 * smooth(hap, n, 3.0)
    for lamp in LAMPS[: rng.integers(4, len(LAMPS) + 1)]:
        mean = rng.uniform(4, 25)
        on = held(hap, n, mean, lambda k: (np.arange(k) + hap.integers(2)) % 2)
        if lamp == "brake_lamp":
            on = (brake > 1).astype(float)
        if lamp in ("left_turn", "right_turn"):
            on = on * (hap.random() < 0.9)
        world.add(Quantity(lamp, "flag", on))
        current = current + on * rng.uniform(1.0, 9.0)
    names = rng.permutation(SWITCHES)[: rng.integers(8, len(SWITCHES) + 1)]
    for name in names:
        mean = rng.choice([3.0, 8.0, 20.0, 60.0, 1e4])
        level = int(rng.integers(2))
        world.add(Quantity(str(name), "flag", held(hap, n, mean, lambda k, lv=level: (np.arange(k) + lv) % 2)))
    value("load_current", current + hap.normal(0, 0.15, n), (0.1, 0.25, 0.05, 0.02), (0.0, -500.0), (-100, 400))
    value("voltage", 14.2 - current * 0.02 + hap.normal(0, 0.02, n), (0.01, 0.05, 0.1, 0.001, 1 / 128), (0.0,), (0, 20))
    # Enumerations.
    world.add(Quantity("gear", "enum", gear, reach=(0, 7)))
    for name, states, mean in (
        ("mode", 4, 12),
        ("wiper", 5, 7),
        ("light_switch", 4, 18),
        ("turn_stalk", 3, 6),
        ("fan_level", 8, 9),
        ("menu", 13, 5),
        ("charge_state", 6, 25),
    )[: rng.integers(3, 8)]:
        world.add(
            Quantity(name, "enum", held(hap, n, mean, lambda k, s=states: _changing(hap, k, s)), reach=(0, states - 1))
        )
    # Slow and cumulative ones, set points, and things of their own.
    value(
        "odometer",
        rng.uniform(1e3, 2e5) + np.cumsum(speed) * STEP_S / 3600,
        (0.001, 0.1, 0.005, 1 / 64),
        (0.0,),
        (0, 4e5),
    )
    value(
        "fuel",
        rng.uniform(20, 60) - np.arange(n) * STEP_S / 400 + 0.25 * smooth(hap, n, 8),
        (0.1, 0.4, 0.25),
        (0.0,),
        (0, 100),
    )
    value(
        "state_of_charge",
        rng.uniform(30, 80) - np.cumsum(np.abs(torque)) * STEP_S / 9000,
        (0.1, 0.01, 0.5),
        (0.0,),
        (0, 100),
    )
    value(
        "pack_current", torque * 0.7 + hap.normal(0, 0.6, n), (0.1, 0.05, 0.0625), (0.0, -1000.0, -800.0), (-800, 800)
    )
    value("pack_voltage", 380 - torque * 0.06 + hap.normal(0, 0.1, n), (0.1, 0.05, 0.5), (0.0,), (0, 600))
    for name, mean, low, high in (
        ("set_speed", 25, 30, 130),
        ("set_temp", 18, 16, 28),
        ("volume", 9, 0, 40),
        ("dimmer", 14, 0, 100),
    ):
        if rng.random() < 0.7:
            value(
                name,
                held(hap, n, mean, lambda k, a=low, b=high: hap.integers(a, b, k)),
                (1.0, 0.5),
                (0.0, -10.0),
                (low - 20, high + 20),
            )
    for i in range(rng.integers(10, 40)):
        tau = float(np.exp(rng.uniform(np.log(0.3), np.log(20))))
        size = float(10 ** rng.uniform(0, 3.2))
        base = rng.uniform(-1, 2) * size
        noise = size * rng.choice([0.0, 0.002, 0.02])
        least, most = base - 5 * size, base + 5 * size
        if rng.random() < 0.4:
            base, least, most = 5 * size, 0.0, 10 * size
        step = float(
            rng.choice([0.001, 0.002, 0.005, 0.01, 0.0125, 1 / 64, 0.02, 0.05, 0.1, 0.125, 0.25, 0.5, 1.0, 2.0, 5.0])
        )
        while (most - least) / step > 60000:
            step *= 10
        while (most - least) / step < 60:
            step /= 10
        offset = (
            0.0
            if least >= 0 or rng.random() < 0.6
            else -float(np.ceil(-least / 10 ** np.floor(np.log10(-least))) * 10 ** np.floor(np.log10(-least)))
        )
        value(
            f"own_{i}",
            base + size * smooth(hap, n, tau) + noise * hap.standard_normal(n),
            (step,),
            (offset,),
            (least, most),
        )
    return world


def _changing(rng: Rng, count: int, states: int) -> Floats:
    steps = rng.integers(1, states, count)
    return np.asarray(np.cumsum(steps) % states, np.float64)
