"""How *Tern* moves: a small model stepped every 20 ms.

Values hang together: the lever turns the pods, the pods draw current, current drains and warms the packs,
thrust makes speed, wheel and speed make the heading. Units are in the names.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

STEP_S = 0.02
VOYAGE = ((0, 0), (8, 0), (28, 38), (60, 84), (150, 80), (185, 30), (215, 22), (240, 0))
"""Lever in per cent over seconds: depart, cruise, slow down, berth."""
VOYAGE_S = 240.0
RAMP_OPEN_DEG = 62.0
RAMP_SPEED_DEG_S = 5.0

Track = dict[str, npt.NDArray[np.float64]]
"""State over time: one column for each quantity, shape (steps,)."""


class Boat:
    """The state of the ferry. `step` moves it on by 20 ms."""

    def __init__(self, seed: int) -> None:
        self.rng = np.random.default_rng([seed, 0])
        self.time_s = 0.0
        self.lever_pct = self.wheel_deg = self.rudder_deg = 0.0
        self.port_rpm = self.star_rpm = self.port_nm = self.star_nm = 0.0
        self.port_temp_c = self.star_temp_c = 31.0
        self.speed_kn, self.heading_deg = 0.0, 74.0
        self.lat_deg, self.lon_deg = 0.1, -30.0
        self.charge_pct, self.charge2_pct = 82.0, 79.5
        self.volts = self.volts2 = 640.0
        self.amps = self.amps2 = 0.0
        self.pack_c, self.pack2_c = 27.0, 28.5
        self.pack2_lost_s = 0.0
        self.next_loss_s = 18.0 + 20 * self.rng.random()
        self.bilge_mm, self.bilge_aft_mm, self.pump = 42.0, 31.0, 0.0
        self.trim_deg = self.trim_star_deg = 0.0
        self.ramp_deg, self.ramp_command, self.ramp_locked = 0.0, 0.0, 1.0
        self.thruster_command, self.thruster_rpm, self.thruster_amps = 0.0, 0.0, 0.0
        self.genset_rpm, self.genset_kw, self.coolant_c, self.oil_bar = 1500.0, 12.0, 71.0, 4.2
        self.fuel_pct, self.cabin_c, self.fan_pct, self.water_pct = 64.0, 18.5, 20.0, 88.0
        self.hours = 4120.25
        self._noise = np.zeros(8)
        self._sway = self.rng.random(4) * 6.28

    def lever_of_voyage(self) -> float:
        """What the crew asks of the pods: depart, cruise, slow down, berth, again and again."""
        t = self.time_s % VOYAGE_S
        for (start, low), (end, high) in pairwise(VOYAGE):
            if t < end:
                return low + (high - low) * (t - start) / (end - start)
        return 0.0

    def step(self, controls: dict[str, str]) -> None:
        """Move on by `STEP_S` under the controls."""
        dt = STEP_S
        self.time_s += dt
        t = self.time_s
        self._noise += (self.rng.standard_normal(8) - self._noise) * 0.04
        noise = self._noise.tolist()
        self._propel(controls, noise, dt, t)
        self._power(controls, noise, dt, t)
        self._deck(controls, dt)
        self._hotel(controls, noise, dt, t)

    def _propel(self, controls: dict[str, str], noise: list[float], dt: float, t: float) -> None:
        lever, wheel = controls["lever"], controls["wheel"]
        wanted = self.lever_of_voyage() if lever == "auto" else float(lever)
        self.lever_pct += max(-40 * dt, min(40 * dt, wanted - self.lever_pct))
        course = 14 * math.sin(t / 17) + 6 * math.sin(t / 5.3) + 2 * noise[0]
        turn = course if wheel == "auto" else float(wheel)
        self.wheel_deg += max(-60 * dt, min(60 * dt, turn - self.wheel_deg))
        self.rudder_deg += (self.wheel_deg - self.rudder_deg) * dt / 0.4
        for side, bias, shake in (("port", 1.0, noise[1]), ("star", 0.985, noise[2])):
            rpm = getattr(self, f"{side}_rpm")
            goal = 18.5 * self.lever_pct * bias
            rise = (goal - rpm) / 1.2
            rpm += rise * dt + shake * 0.25
            setattr(self, f"{side}_rpm", max(rpm, 0.0))
            torque = 0.00042 * rpm * rpm + 0.9 * rise + 6 * shake
            setattr(self, f"{side}_nm", torque)
            temp = getattr(self, f"{side}_temp_c")
            setattr(self, f"{side}_temp_c", temp + ((30 + abs(torque) / 22) - temp) * dt / 45)
        thrust = (self.port_rpm + self.star_rpm) / 2 / 1850
        self.speed_kn += (13.5 * thrust - self.speed_kn) * dt / 9
        self.heading_deg = (self.heading_deg + self.rudder_deg * self.speed_kn * 0.012 * dt * 10) % 360
        metres = self.speed_kn * 0.5144 * dt
        self.lat_deg += metres * math.cos(math.radians(self.heading_deg)) / 111_200
        # So near the equator a degree is about as long both ways.
        self.lon_deg += metres * math.sin(math.radians(self.heading_deg)) / 111_300
        self.trim_deg += ((self.speed_kn * 0.55 + 0.4 * noise[3]) - self.trim_deg) * dt / 2
        self.trim_star_deg += ((self.speed_kn * 0.52 + 0.4 * noise[4]) - self.trim_star_deg) * dt / 2

    def _power(self, controls: dict[str, str], noise: list[float], dt: float, t: float) -> None:
        kilowatts = (self.port_nm * self.port_rpm + self.star_nm * self.star_rpm) / 9549 + 9 + 0.5 * noise[5]
        kilowatts += abs(self.thruster_amps) * 0.6 - self.genset_kw * 0.4
        for n, share in (("", 0.52), ("2", 0.48)):
            amps = kilowatts * share * 1000 / max(getattr(self, f"volts{n}"), 400)
            charge = getattr(self, f"charge{n}_pct") - amps * dt / 3600 / 4.2
            # The crew charges at the berth; here the pack is simply never flat.
            setattr(self, f"charge{n}_pct", charge if charge > 35 else 90.0)
            setattr(self, f"amps{n}", amps)
            setattr(self, f"volts{n}", 585 + 0.95 * charge - 0.09 * amps + 0.3 * noise[6])
            warm = getattr(self, f"pack{n}_c")
            setattr(self, f"pack{n}_c", warm + ((26 + amps * amps / 2500) - warm) * dt / 160)
        self.pack2_lost_s = max(self.pack2_lost_s - dt, 0.0)
        if t >= self.next_loss_s:
            self.next_loss_s = t + 25 + 30 * float(self.rng.random())
            self.pack2_lost_s = 0.8 + 1.6 * float(self.rng.random())
        if controls["fault-pack2"] == "off":
            self.pack2_lost_s = 0.0

    def _deck(self, controls: dict[str, str], dt: float) -> None:
        if controls["fault-panel"] == "off":
            self.ramp_command = {"up": 1.0, "down": 2.0}.get(controls["ramp"], 0.0)
        else:
            self.ramp_command = 0.0
        way = {1.0: -1.0, 2.0: 1.0}.get(self.ramp_command, 0.0)
        if way and not (self.ramp_locked and way < 0):
            self.ramp_deg = min(max(self.ramp_deg + way * RAMP_SPEED_DEG_S * dt, 0.0), RAMP_OPEN_DEG)
        self.ramp_locked = 1.0 if self.ramp_deg <= 0 else 0.0
        self.thruster_command = {"port": -1.0, "starboard": 1.0}.get(controls["thruster"], 0.0)
        self.thruster_rpm += (self.thruster_command * 1180 - self.thruster_rpm) * dt / 0.7
        if abs(self.thruster_rpm) < 0.5:
            self.thruster_rpm = 0.0
        rise = abs(self.thruster_command * 1180 - self.thruster_rpm) / 1180
        self.thruster_amps = (abs(self.thruster_rpm) / 1180) ** 2 * 118 + 160 * rise * abs(self.thruster_command)
        self.bilge_mm += 0.11 * dt - self.pump * 3.2 * dt
        self.bilge_aft_mm += 0.05 * dt - self.pump * 1.1 * dt
        if self.bilge_mm > 55:
            self.pump = 1.0
        elif self.bilge_mm < 35:
            self.pump = 0.0

    def _hotel(self, controls: dict[str, str], noise: list[float], dt: float, t: float) -> None:
        demand = 9 + 0.05 * self.fan_pct + 2 * math.sin(t / 40) + (3 if controls["lights"] == "on" else 0)
        self.genset_kw += (demand - self.genset_kw) * dt / 3
        self.genset_rpm = 1500 + 4 * noise[7] - (demand - self.genset_kw) * 9
        self.coolant_c += ((66 + self.genset_kw) - self.coolant_c) * dt / 60
        self.oil_bar = 4.6 - (self.coolant_c - 60) * 0.02 + 0.02 * noise[3]
        self.fuel_pct = max(self.fuel_pct - self.genset_kw * dt * 2e-6, 5.0)
        wanted = float(controls["cabin"])
        self.fan_pct += (min(max(abs(wanted - self.cabin_c) * 30, 12), 100) - self.fan_pct) * dt / 4
        self.cabin_c += ((wanted - self.cabin_c) * 0.012 + 0.0015 * noise[5]) * dt * self.fan_pct / 40
        self.water_pct = 88 - (t / 90) % 30
        self.hours += dt / 3600

    def track(self, steps: int, controls: dict[str, str]) -> Track:
        """Move on by so many steps; the state after each, as columns."""
        names = [n for n, v in vars(self).items() if isinstance(v, float)]
        rows: list[list[Any]] = []
        state = vars(self)
        for _ in range(steps):
            self.step(controls)
            rows.append([state[name] for name in names])
        table = np.array(rows, np.float64).reshape(steps, len(names))
        track = {name: table[:, i] for i, name in enumerate(names)}
        t, sway = track["time_s"], self._sway
        swell = 0.6 + track["speed_kn"] / 12
        track["roll_deg"] = swell * (2.1 * np.sin(t / 1.1 + sway[0]) + 0.8 * np.sin(t / 0.43 + sway[1]))
        track["pitch_deg"] = swell * (1.2 * np.sin(t / 0.9 + sway[2]) + 0.4 * np.sin(t / 0.31 + sway[3]))
        track["yaw_deg_s"] = track["rudder_deg"] * track["speed_kn"] * 0.12
        for key in ("door-fore", "door-aft"):
            track[key] = np.full(steps, 1.0 if controls[key] == "open" else 0.0)
        track["lights"] = np.full(steps, 1.0 if controls["lights"] == "on" else 0.0)
        track["speed_kmh"] = track["speed_kn"] * 1.852
        track["shore"] = np.full(steps, 1.0 if controls["shore"] == "plugged" else 0.0)
        track["cabin_wanted_c"] = np.full(steps, float(controls["cabin"]))
        track["panel_dead"] = np.full(steps, 1.0 if controls["fault-panel"] == "on" else 0.0)
        return track
