"""The water below the intake's drop, slowed down in a basin: followed metre by metre, which takes a while."""

import math

STEPS = 6000


def pool(length, depth, sill, width, flow, drop):
    """Energy head left behind the sill [m], and how high it splashes on the way [m]."""
    gravity = 9.81
    speed = math.sqrt(2.0 * gravity * (drop + depth))
    height = flow / (width * speed)
    step, splash, rest = length / STEPS, 0.0, speed
    for number in range(STEPS):
        # The jet spreads into the pool, and the roller above it takes its energy.
        along = (number + 0.5) * step
        roller = 1.0 - math.exp(-along / (1.6 * depth))
        drag = 0.02 + 0.42 * depth / (depth + 0.7) * roller * math.exp(-((along / (6.0 * depth)) ** 2))
        rest -= step * drag * rest / (0.7 + height)
        height = flow / (width * max(rest, 0.3))
        splash = max(splash, height + 0.12 * rest * roller / (1.0 + along))
    behind = sill + (flow / (1.7 * width)) ** (2.0 / 3.0)
    lost = 0.4 * sill / (0.5 + sill) * rest**2 / (2.0 * gravity)
    return {"left": rest**2 / (2.0 * gravity) - lost, "splash": splash + 0.3 * behind}
