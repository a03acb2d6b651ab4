"""Published test problems with their published optima, written as problem files.

Most are from W. Hock, K. Schittkowski, "Test Examples for Nonlinear Programming Codes", 1981 (`hs` and their
number there); the others name their source.
"""

from __future__ import annotations

from dataclasses import dataclass

from ilvren import loads
from ilvren.problem import Problem

__all__ = ["PUBLISHED", "Published"]


@dataclass(frozen=True)
class Published:
    """Starts (and bounds as (start, lower, upper)) of x1, x2 …; the best objective known."""

    name: str
    starts: tuple[float | tuple[float, float | None, float | None], ...]
    objective: str
    constraints: tuple[str, ...]
    best: float

    def problem(self) -> Problem:
        """Return the problem."""
        lines = ["[variables]"]
        for i, entry in enumerate(self.starts, start=1):
            start, lower, upper = entry if isinstance(entry, tuple) else (entry, None, None)
            words = [f"start = {float(start)}"]
            words += [f"lower = {float(lower)}"] if lower is not None else []
            words += [f"upper = {float(upper)}"] if upper is not None else []
            lines.append(f"x{i} = {{ {', '.join(words)} }}")
        lines += ["[minimize]", f'f = "{self.objective}"']
        if self.constraints:
            lines += ["[constraints]", *(f'c{i} = "{text}"' for i, text in enumerate(self.constraints, start=1))]
        return loads("\n".join(lines), file=self.name)


ROSENBROCK = "100 * (x2 - x1^2)^2 + (1 - x1)^2"
WOOD = f"{ROSENBROCK} + 90 * (x4 - x3^2)^2 + (1 - x3)^2 + 10.1 * ((x2 - 1)^2 + (x4 - 1)^2) + 19.8 * (x2 - 1) * (x4 - 1)"
SUZUKI = "x1^2 + x2^2 + 2 * x3^2 + x4^2 - 5 * x1 - 5 * x2 - 21 * x3 + 7 * x4"
HS100 = "(x1 - 10)^2 + 5 * (x2 - 12)^2 + x3^4 + 3 * (x4 - 11)^2 + 10 * x5^6 + 7 * x6^2 + x7^4 - 4 * x6 * x7 - 10 * x6 - 8 * x7"
HS113 = (
    "x1^2 + x2^2 + x1 * x2 - 14 * x1 - 16 * x2 + (x3 - 10)^2 + 4 * (x4 - 5)^2 + (x5 - 3)^2 + 2 * (x6 - 1)^2"
    " + 5 * x7^2 + 7 * (x8 - 11)^2 + 2 * (x9 - 10)^2 + (x10 - 7)^2 + 45"
)

PUBLISHED = (
    Published("hs1", (-2, (1, -1.5, None)), ROSENBROCK, (), 0.0),
    Published("hs3", (10, (1, 0, None)), "x2 + 1e-5 * (x2 - x1)^2", (), 0.0),
    Published("hs4", ((1.125, 1, None), (0.125, 0, None)), "(x1 + 1)^3 / 3 + x2", (), 8 / 3),
    Published("hs5", ((0, -1.5, 4), (0, -3, 3)), "sin(x1 + x2) + (x1 - x2)^2 - 1.5 * x1 + 2.5 * x2 + 1", (), -1.9132229550),
    Published("hs6", (-1.2, 1), "(1 - x1)^2", ("10 * (x2 - x1^2) == 0",), 0.0),
    Published("hs7", (2, 2), "log(1 + x1^2) - x2", ("(1 + x1^2)^2 + x2^2 == 4",), -1.7320508076),
    Published("hs10", (-10, 10), "x1 - x2", ("-3 * x1^2 + 2 * x1 * x2 - x2^2 + 1 >= 0",), -1.0),
    Published("hs11", (4.9, 0.1), "(x1 - 5)^2 + x2^2 - 25", ("x2 >= x1^2",), -8.4984642231),
    Published("hs12", (0, 0), "0.5 * x1^2 + x2^2 - x1 * x2 - 7 * x1 - 7 * x2", ("25 >= 4 * x1^2 + x2^2",), -30.0),
    Published("hs14", (2, 2), "(x1 - 2)^2 + (x2 - 1)^2", ("-0.25 * x1^2 - x2^2 + 1 >= 0", "x1 - 2 * x2 + 1 == 0"), 1.3934649806),
    Published("hs17", ((-0.5, -0.5, 0.5), (1, None, 1)), ROSENBROCK, ("x2^2 >= x1", "x1^2 >= x2"), 1.0),
    Published("hs18", ((2, 2, 50), (2, 0, 50)), "0.01 * x1^2 + x2^2", ("x1 * x2 >= 25", "x1^2 + x2^2 >= 25"), 5.0),
    Published(
        "hs19",
        ((20.1, 13, 100), (5.84, 0, 100)),
        "(x1 - 10)^3 + (x2 - 20)^3",
        ("(x1 - 5)^2 + (x2 - 5)^2 >= 100", "82.81 >= (x2 - 5)^2 + (x1 - 6)^2"),
        -6961.8138764,
    ),
    Published("hs21", ((2, 2, 50), (-1, -50, 50)), "0.01 * x1^2 + x2^2 - 100", ("10 * x1 - x2 >= 10",), -99.96),
    Published("hs22", (2, 2), "(x1 - 2)^2 + (x2 - 1)^2", ("2 >= x1 + x2", "x2 >= x1^2"), 1.0),
    Published(
        "hs23",
        ((3, -50, 50), (1, -50, 50)),
        "x1^2 + x2^2",
        ("x1 + x2 >= 1", "x1^2 + x2^2 >= 1", "9 * x1^2 + x2^2 >= 9", "x1^2 >= x2", "x2^2 >= x1"),
        2.0,
    ),
    Published("hs26", (-2.6, 2, 2), "(x1 - x2)^2 + (x2 - x3)^4", ("(1 + x2^2) * x1 + x3^4 == 3",), 0.0),
    Published("hs27", (2, 2, 2), "0.01 * (x1 - 1)^2 + (x2 - x1^2)^2", ("x1 + x3^2 == -1",), 0.04),
    Published("hs28", (-4, 1, 1), "(x1 + x2)^2 + (x2 + x3)^2", ("x1 + 2 * x2 + 3 * x3 == 1",), 0.0),
    Published("hs29", (1, 1, 1), "-x1 * x2 * x3", ("48 >= x1^2 + 2 * x2^2 + 4 * x3^2",), -22.627416998),
    Published(
        "hs33",
        ((0, 0, None), (0, 0, None), (3, 0, 5)),
        "(x1 - 1) * (x1 - 2) * (x1 - 3) + x3",
        ("x3^2 >= x1^2 + x2^2", "x1^2 + x2^2 + x3^2 >= 4"),
        -4.585786437627,
    ),
    Published(
        "hs34",
        ((0, 0, 100), (1.05, 0, 100), (2.9, 0, 10)),
        "-x1",
        ("x2 >= exp(x1)", "x3 >= exp(x2)"),
        -0.8340324452,
    ),
    Published(
        "hs35",
        ((0.5, 0, None),) * 3,
        "9 - 8 * x1 - 6 * x2 - 4 * x3 + 2 * x1^2 + 2 * x2^2 + x3^2 + 2 * x1 * x2 + 2 * x1 * x3",
        ("3 >= x1 + x2 + 2 * x3",),
        1 / 9,
    ),
    Published("hs38", ((-3, -10, 10), (-1, -10, 10)) * 2, WOOD, (), 0.0),
    Published("hs39", (2, 2, 2, 2), "-x1", ("x2 == x1^3 + x3^2", "x1^2 == x2 + x4^2"), -1.0),
    Published(
        "hs40", (0.8,) * 4, "-x1 * x2 * x3 * x4", ("x1^3 + x2^2 == 1", "x1^2 * x4 == x3", "x4^2 == x2"), -0.25
    ),
    Published(
        "hs42",
        (1,) * 4,
        "(x1 - 1)^2 + (x2 - 2)^2 + (x3 - 3)^2 + (x4 - 4)^2",
        ("x1 == 2", "x3^2 + x4^2 == 2"),
        13.8578643763,
    ),
    Published(
        "hs43",
        (0,) * 4,
        SUZUKI,
        (
            "8 >= x1^2 + x2^2 + x3^2 + x4^2 + x1 - x2 + x3 - x4",
            "10 >= x1^2 + 2 * x2^2 + x3^2 + 2 * x4^2 - x1 - x4",
            "5 >= 2 * x1^2 + x2^2 + x3^2 + 2 * x1 - x2 - x4",
        ),
        -44.0,
    ),
    Published(
        "hs48", (3, 5, -3, 2, -2), "(x1 - 1)^2 + (x2 - x3)^2 + (x4 - x5)^2",
        ("x1 + x2 + x3 + x4 + x5 == 5", "x3 - 2 * (x4 + x5) == -3"), 0.0,
    ),
    Published(
        "hs52", (2,) * 5, "(4 * x1 - x2)^2 + (x2 + x3 - 2)^2 + (x4 - 1)^2 + (x5 - 1)^2",
        ("x1 + 3 * x2 == 0", "x3 + x4 - 2 * x5 == 0", "x2 == x5"), 5.3266475644,
    ),
    Published(
        "hs63", ((2, 0, None),) * 3, "1000 - x1^2 - 2 * x2^2 - x3^2 - x1 * x2 - x1 * x3",
        ("8 * x1 + 14 * x2 + 7 * x3 == 56", "x1^2 + x2^2 + x3^2 == 25"), 961.7151721,
    ),
    Published(
        "hs65", ((-4.5, -4.5, 4.5), (4.5, -4.5, 4.5), (0, -5, 5)), "(x1 - x2)^2 + (x1 + x2 - 10)^2 / 9 + (x3 - 5)^2",
        ("48 >= x1^2 + x2^2 + x3^2",), 0.9535288567,
    ),
    Published(
        "hs66", ((0, 0, 100), (1.05, 0, 100), (2.9, 0, 10)), "0.2 * x3 - 0.8 * x1",
        ("x2 >= exp(x1)", "x3 >= exp(x2)"), 0.5181632741,
    ),
    Published(
        "hs71", ((1, 1, 5), (5, 1, 5), (5, 1, 5), (1, 1, 5)), "x1 * x4 * (x1 + x2 + x3) + x3",
        ("x1 * x2 * x3 * x4 >= 25", "x1^2 + x2^2 + x3^2 + x4^2 == 40"), 17.0140173,
    ),
    Published(
        "hs76", ((0.5, 0, None),) * 4,
        "x1^2 + 0.5 * x2^2 + x3^2 + 0.5 * x4^2 - x1 * x3 + x3 * x4 - x1 - 3 * x2 + x3 - x4",
        ("5 >= x1 + 2 * x2 + x3 + x4", "4 >= 3 * x1 + x2 + 2 * x3 - x4", "x2 + 4 * x3 >= 1.5"), -4.681818181,
    ),
    Published(
        "hs77", (2,) * 5, "(x1 - 1)^2 + (x1 - x2)^2 + (x3 - 1)^2 + (x4 - 1)^4 + (x5 - 1)^6",
        ("x1^2 * x4 + sin(x4 - x5) == 2 * sqrt(2)", "x2 + x3^4 * x4^2 == 8 + sqrt(2)"), 0.24150513,
    ),
    Published(
        "hs78", (-2, 1.5, 2, -1, -1), "x1 * x2 * x3 * x4 * x5",
        ("x1^2 + x2^2 + x3^2 + x4^2 + x5^2 == 10", "x2 * x3 == 5 * x4 * x5", "x1^3 + x2^3 == -1"), -2.91970041,
    ),
    Published(
        "hs79", (2,) * 5, "(x1 - 1)^2 + (x1 - x2)^2 + (x2 - x3)^2 + (x3 - x4)^4 + (x4 - x5)^4",
        ("x1 + x2^2 + x3^3 == 2 + 3 * sqrt(2)", "x2 - x3^2 + x4 == -2 + 2 * sqrt(2)", "x1 * x5 == 2"), 0.0787768209,
    ),
    Published(
        "hs80", ((-2, -2.3, 2.3), (2, -2.3, 2.3), (2, -3.2, 3.2), (-1, -3.2, 3.2), (-1, -3.2, 3.2)),
        "exp(x1 * x2 * x3 * x4 * x5)",
        ("x1^2 + x2^2 + x3^2 + x4^2 + x5^2 == 10", "x2 * x3 == 5 * x4 * x5", "x1^3 + x2^3 == -1"), 0.0539498478,
    ),
    Published(
        "hs100", (1, 2, 0, 4, 0, 1, 1), HS100,
        (
            "127 >= 2 * x1^2 + 3 * x2^4 + x3 + 4 * x4^2 + 5 * x5",
            "282 >= 7 * x1 + 3 * x2 + 10 * x3^2 + x4 - x5",
            "196 >= 23 * x1 + x2^2 + 6 * x6^2 - 8 * x7",
            "-4 * x1^2 - x2^2 + 3 * x1 * x2 - 2 * x3^2 - 5 * x6 + 11 * x7 >= 0",
        ),
        680.6300573,
    ),
    Published(
        "hs113", (2, 3, 5, 5, 1, 2, 7, 3, 6, 10), HS113,
        (
            "105 >= 4 * x1 + 5 * x2 - 3 * x7 + 9 * x8",
            "0 >= 10 * x1 - 8 * x2 - 17 * x7 + 2 * x8",
            "12 >= -8 * x1 + 2 * x2 + 5 * x9 - 2 * x10",
            "120 >= 3 * (x1 - 2)^2 + 4 * (x2 - 3)^2 + 2 * x3^2 - 7 * x4",
            "40 >= 5 * x1^2 + 8 * x2 + (x3 - 6)^2 - 2 * x4",
            "30 >= 0.5 * (x1 - 8)^2 + 2 * (x2 - 4)^2 + 3 * x5^2 - x6",
            "0 >= x1^2 + 2 * (x2 - 2)^2 - 2 * x1 * x2 + 14 * x5 - 6 * x6",
            "0 >= -3 * x1 + 6 * x2 + 12 * (x9 - 8)^2 - 7 * x10",
        ),
        24.3062091,
    ),
    Published("Rosenbrock 1960", (-1.2, 1), ROSENBROCK, (), 0.0),
    Published("Beale 1958", (1, 1), "(1.5 - x1 * (1 - x2))^2 + (2.25 - x1 * (1 - x2^2))^2 + (2.625 - x1 * (1 - x2^3))^2", (), 0.0),
    Published(
        "Powell 1962, singular Hessian", (3, -1, 0, 1),
        "(x1 + 10 * x2)^2 + 5 * (x3 - x4)^2 + (x2 - 2 * x3)^4 + 10 * (x1 - x4)^4", (), 0.0,
    ),
    Published("Freudenstein and Roth 1963, local", (0.5, -2), "(-13 + x1 + ((5 - x2) * x2 - 2) * x2)^2 + (-29 + x1 + ((x2 + 1) * x2 - 14) * x2)^2", (), 48.98425),
    Published("Brown, badly scaled", (1, 1), "(x1 - 1e6)^2 + (x2 - 2e-6)^2 + (x1 * x2 - 2)^2", (), 0.0),
    Published("Powell 1969, Maratos", (0.8, 0.6), "2 * (x1^2 + x2^2 - 1) - x1", ("x1^2 + x2^2 == 1",), -1.0),
)  # fmt: skip
