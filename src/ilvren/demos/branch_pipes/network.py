"""Heads and speeds in the branch network, by Newton's method on the heads at its junctions.

Nodes: 0 the tank, 1 and 2 the branchings, 3 lower, 4 near, 5 far. Losses follow h = r · q · |q|^0.852 with
r = 10.67 · length / (C^1.852 · d^4.871). All numbers are made up.
"""

import numpy as np

TANK_HEAD = 38.0  # m
ELEVATIONS = np.array([0.0, 14.0, 12.0, 6.0, 15.0, 16.5])
DEMANDS = np.array([0.0, 0.0, 0.0, 0.0055, 0.0042, 0.0036])  # m³/s
# name, from, to, length [m]
PIPES = (
    ("trunk", 0, 1, 240.0),
    ("middle", 1, 2, 160.0),
    ("lower", 1, 3, 120.0),
    ("near", 2, 4, 90.0),
    ("far", 2, 5, 150.0),
    ("link", 4, 5, 110.0),
)
ROUGHNESS = 135.0
WALL_SHARE = 0.9  # inside over outside diameter


def solve(trunk, middle, lower, near, far, link):
    """Return the pressure heads at the outlets and the fastest speed; sizes are outside diameters in mm."""
    sizes = {"trunk": trunk, "middle": middle, "lower": lower, "near": near, "far": far, "link": link}
    bores = np.array([WALL_SHARE * sizes[name] / 1000.0 for name, *_ in PIPES])
    lengths = np.array([length for *_, length in PIPES])
    resistance = 10.67 * lengths / (ROUGHNESS**1.852 * bores**4.871)
    start = np.array([a for _, a, _, _ in PIPES])
    end = np.array([b for _, _, b, _ in PIPES])
    heads = np.linspace(TANK_HEAD - 1.0, TANK_HEAD - 6.0, 6)
    heads[0] = TANK_HEAD
    for _ in range(200):
        drop = heads[start] - heads[end]
        size = np.maximum(np.abs(drop), 1e-9)
        flow = np.sign(drop) * (size / resistance) ** (1.0 / 1.852)
        slope = flow / (1.852 * np.where(drop == 0.0, 1e-9, drop))
        slope = np.maximum(np.abs(slope), 1e-9)
        rest = -DEMANDS.copy()
        matrix = np.zeros((6, 6))
        for k in range(len(PIPES)):
            a, b = start[k], end[k]
            rest[a] -= flow[k]
            rest[b] += flow[k]
            matrix[a, a] += slope[k]
            matrix[b, b] += slope[k]
            matrix[a, b] -= slope[k]
            matrix[b, a] -= slope[k]
        step = np.linalg.solve(matrix[1:, 1:], rest[1:])
        # The derivative of the root law is steep near rest: steps of more than a few metres overshoot.
        heads[1:] += step * min(1.0, 20.0 / max(float(np.abs(step).max()), 1e-12))
        if np.abs(step).max() < 1e-10:
            break
    else:
        raise RuntimeError("the network's heads did not come to rest")
    pressure = heads - ELEVATIONS
    speeds = np.abs(flow) / (np.pi * bores**2 / 4.0)
    return {
        "head_lower": float(pressure[3]),
        "head_near": float(pressure[4]),
        "head_far": float(pressure[5]),
        "fastest": float(speeds.max()),
    }
