"""The answer of the middle tank's level to a step, with a controller on a valve that saturates and lags.

The tank: area · d(level)/dt = inflow · opening − outflow · sqrt(level); the valve follows its order with a lag. The
controller acts every few seconds, holds its integral while the valve is at an end, and sees the level with a delay.
All numbers are made up.
"""

import math

AREA = 3.2  # m²
FULL_INFLOW = 0.021  # m³/s with the valve open
OUTFLOW = 0.0105  # m^2.5/s
LEVEL = 1.0  # m, at rest before the step
VALVE_LAG = 8.0  # s
DELAY = 12.0  # s between the level and what the gauge says
PERIOD = 2.0  # s between actions of the controller
SECONDS = 2400.0
SAMPLES = 120


def answer(gain, reset, rate, step):
    """Simulate the step and return what is judged, and the level over time."""
    level, target = LEVEL, LEVEL + step
    resting = OUTFLOW * math.sqrt(LEVEL) / FULL_INFLOW
    opening = integral = resting
    seen = [level] * int(DELAY / PERIOD)
    before = level
    count = int(SECONDS / PERIOD)
    levels, travel, error_time = [], 0.0, 0.0
    for k in range(count):
        gauge = seen.pop(0)
        seen.append(level)
        error = target - gauge
        order = integral + gain * (error - rate * (gauge - before) / PERIOD)
        before = gauge
        held = min(max(order, 0.0), 1.0)
        if held == order or (held - order) * error > 0.0:
            integral += gain * error * PERIOD / reset
        moved = (held - opening) * (1.0 - math.exp(-PERIOD / VALVE_LAG))
        opening += moved
        travel += abs(moved)
        level += PERIOD * (FULL_INFLOW * opening - OUTFLOW * math.sqrt(max(level, 0.0))) / AREA
        levels.append(level)
        time = (k + 1) * PERIOD
        error_time += abs(target - level) * time / 60.0 * PERIOD / 60.0
    rise = _first(levels, LEVEL + 0.9 * step) - _first(levels, LEVEL + 0.1 * step)
    outside = [k for k, value in enumerate(levels) if abs(value - target) > 0.05 * step]
    every = count // SAMPLES
    return {
        "error_time": error_time,
        "overshoot": max(max(levels) - target, 0.0),
        "rise": rise,
        "settling": PERIOD * (outside[-1] + 1 if outside else 0),
        "travel": travel,
        "level": levels[every - 1 :: every][:SAMPLES],
    }


def _first(levels, value):
    """Return when the level first reaches a value, between samples by a straight line; the end when it never does."""
    for k in range(1, len(levels)):
        if levels[k] >= value:
            rise = levels[k] - levels[k - 1]
            share = (value - levels[k - 1]) / rise if rise > 0.0 else 0.0
            return PERIOD * (k + min(max(share, 0.0), 1.0))
    return PERIOD * len(levels)
