"""Published problems of several objectives whose fronts are known in closed form or on a fine grid, and own ones, as
problem files. Objectives are all minimized."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ilvren import loads
from ilvren.algebra import nondominated
from ilvren.problem import Problem

__all__ = ["FRONTS", "FrontProblem", "front_named"]

Array = np.ndarray


@dataclass(frozen=True)
class FrontProblem:
    """A problem file, and designs of which the front's objectives are `front` (k, p) once dominated ones are gone."""

    name: str
    text: str
    sampled: Callable[[], Array]
    is_smooth: bool = True

    def problem(self) -> Problem:
        """Return the problem."""
        return loads(self.text, file=self.name + ".toml")

    def front(self) -> Array:
        """Return the objectives (k, p) of many designs of the front."""
        values = self.sampled()
        return values[nondominated(values)]


def _file(variables: Sequence[str], minimize: Sequence[str], limits: Sequence[str] = (), derived: str = "") -> str:
    lines = ["[variables]", *variables]
    if derived:
        lines += ["[derived]", derived]
    lines += ["[minimize]", *(f"f{k} = '{text}'" for k, text in enumerate(minimize, start=1))]
    if limits:
        lines += ["[constraints]", *(f"c{k} = '{text}'" for k, text in enumerate(limits, start=1))]
    return "\n".join(lines) + "\n"


def _scalars(*boxes: tuple[float, float, float]) -> list[str]:
    return [f"x{k} = {{ start = {s}, lower = {a}, upper = {b} }}" for k, (s, a, b) in enumerate(boxes, start=1)]


def _vector(n: int, low: float, high: float, start: float) -> list[str]:
    return [f"x = {{ start = {start}, lower = {low}, upper = {high}, shape = {n} }}"]


def _grid(*axes: Array) -> list[Array]:
    return [axis.ravel() for axis in np.meshgrid(*axes, indexing="ij")]


def _schaffer() -> Array:
    x = np.linspace(0, 2, 2001)
    return np.column_stack([x**2, (x - 2) ** 2])


def _fonseca() -> Array:
    t = np.linspace(-1, 1, 4001) / np.sqrt(3)
    return np.column_stack([1 - np.exp(-3 * (t - 1 / np.sqrt(3)) ** 2), 1 - np.exp(-3 * (t + 1 / np.sqrt(3)) ** 2)])


def _zdt(shape: Callable[[Array], Array], low: float = 0.0) -> Callable[[], Array]:
    def sampled() -> Array:
        f = np.linspace(low, 1, 20001)
        return np.column_stack([f, shape(f)])

    return sampled


def _zdt6() -> Array:
    f = np.linspace(0.2807753191, 1, 4001)
    return np.column_stack([f, 1 - f**2])


def _kursawe() -> Array:
    found = np.zeros((0, 2))
    axis = np.linspace(-2.0, 1.0, 301)
    for a in axis:
        b, c = _grid(axis, axis)
        f = sum(-10 * np.exp(-0.2 * np.sqrt(p**2 + q**2)) for p, q in ((a, b), (b, c)))
        g = sum(np.abs(v) ** 0.8 + 5 * np.sin(v**3) for v in (a, b, c))
        both = np.column_stack([f, g])
        found = np.vstack([found, both[nondominated(both)]])
    return found


def _poloni() -> Array:
    x, y = _grid(np.linspace(-np.pi, np.pi, 2501), np.linspace(-np.pi, np.pi, 2501))
    a1 = 0.5 * np.sin(1) - 2 * np.cos(1) + np.sin(2) - 1.5 * np.cos(2)
    a2 = 1.5 * np.sin(1) - np.cos(1) + 2 * np.sin(2) - 0.5 * np.cos(2)
    b1 = 0.5 * np.sin(x) - 2 * np.cos(x) + np.sin(y) - 1.5 * np.cos(y)
    b2 = 1.5 * np.sin(x) - np.cos(x) + 2 * np.sin(y) - 0.5 * np.cos(y)
    return np.column_stack([1 + (a1 - b1) ** 2 + (a2 - b2) ** 2, (x + 3) ** 2 + (y + 1) ** 2])


def _binh() -> Array:
    t = np.linspace(0, 3, 2001)
    s = np.linspace(3, 5, 2001)
    x, y = np.concatenate([t, s]), np.concatenate([t, np.full_like(s, 3)])
    return np.column_stack([4 * x**2 + 4 * y**2, (x - 5) ** 2 + (y - 5) ** 2])


def _srinivas() -> Array:
    x, y = _grid(np.linspace(-6, 2, 1601), np.linspace(0, 15, 3001))
    use = (x**2 + y**2 <= 225) & (x - 3 * y <= -10)
    x, y = x[use], y[use]
    return np.column_stack([2 + (x - 2) ** 2 + (y - 1) ** 2, 9 * x - (y - 1) ** 2])


def _tanaka() -> Array:
    angle = np.linspace(0, np.pi / 2, 40001)
    radius = np.sqrt(1 + 0.1 * np.cos(16 * angle))
    x, y = radius * np.sin(angle), radius * np.cos(angle)
    use = (x - 0.5) ** 2 + (y - 0.5) ** 2 <= 0.5 + 1e-12
    return np.column_stack([x, y])[use]


def _simple() -> Array:
    x = np.concatenate([np.linspace(7 / 18, 2 / 3, 2001), np.linspace(2 / 3, 1, 2001)])
    y = np.maximum(6 - 9 * x, 0)
    return np.column_stack([x, (1 + y) / x])


def _osyczka() -> Array:
    parts = []
    s = np.linspace(0, 1, 1001)
    for x1, x2, x3, x5, x6 in (
        (5, 1, 1 + 4 * s, 5, 0),
        (5, 1, 1 + 4 * s, 1, 0),
        (4.056 + 0.944 * s, (4.056 + 0.944 * s - 2) / 3, 1, 1, 0),
        (0, 2, 1 + 2.732 * s, 1, 0),
        (s, 2 - s, 1, 1, 0),
    ):
        x1, x2, x3, x5 = (np.broadcast_to(np.asarray(v, float), s.shape) for v in (x1, x2, x3, x5))
        f = -(25 * (x1 - 2) ** 2 + (x2 - 2) ** 2 + (x3 - 1) ** 2 + 16 + (x5 - 1) ** 2)
        g = x1**2 + x2**2 + x3**2 + x5**2 + x6**2
        parts.append(np.column_stack([f, g]))
    return np.vstack(parts)


def _viennet2() -> Array:
    x, y = _grid(np.linspace(-1.5, 4, 301), np.linspace(-3, 3, 301))
    return np.column_stack(
        [
            (x - 2) ** 2 / 2 + (y + 1) ** 2 / 13 + 3,
            (x + y - 3) ** 2 / 36 + (-x + y + 2) ** 2 / 8 - 17,
            (x + 2 * y - 1) ** 2 / 175 + (2 * y - x) ** 2 / 17 - 13,
        ]
    )


def _simplex() -> Array:
    a, b = _grid(np.linspace(0, 1, 121), np.linspace(0, 1, 121))
    use = a + b <= 1 + 1e-12
    return 0.5 * np.column_stack([a, b, 1 - a - b])[use]


def _sphere() -> Array:
    a, b = _grid(np.linspace(0, np.pi / 2, 121), np.linspace(0, np.pi / 2, 121))
    return np.column_stack([np.cos(a) * np.cos(b), np.cos(a) * np.sin(b), np.sin(a)])


def _dtlz7() -> Array:
    a, b = _grid(np.linspace(0, 1, 301), np.linspace(0, 1, 301))
    h = 3 - sum(f / 2 * (1 + np.sin(3 * np.pi * f)) for f in (a, b))
    return np.column_stack([a, b, 2 * h])


def _circle() -> Array:
    a = np.linspace(0, np.pi / 2, 4001)
    return np.column_stack([np.sin(a), np.cos(a)])


def _paraboloids() -> Array:
    # The front of three distances to the corners of a triangle is the triangle itself.
    a, b = _grid(np.linspace(0, 1, 161), np.linspace(0, 1, 161))
    use = a + b <= 1 + 1e-12
    corners = np.array([[0.0, 0.0], [4.0, 0.0], [1.0, 3.0]])
    x = (np.outer(a, corners[1]) + np.outer(b, corners[2]) + np.outer(1 - a - b, corners[0]))[use]
    return np.column_stack([((x - corner) ** 2).sum(axis=1) for corner in corners])


def _capped() -> Array:
    # On min(x² + y², (x − 3)² + (y − 1)²) with y >= 1.2 − x/4: along the line until the free segment is met.
    x = np.concatenate([np.linspace(0.0, 3.0, 6001)])
    parts = [np.column_stack([x, 1.2 - x / 4])]
    parts.append(np.column_stack([x, x / 3]))
    both = np.vstack(parts)
    both = both[both[:, 1] >= 1.2 - both[:, 0] / 4 - 1e-12]
    return np.column_stack([(both**2).sum(axis=1), (both[:, 0] - 3) ** 2 + (both[:, 1] - 1) ** 2])


TANAKA_LIMITS = ("x1^2 + x2^2 - 1 - 0.1 * cos(16 * atan2(x1, x2)) >= 0", "(x1 - 0.5)^2 + (x2 - 0.5)^2 <= 0.5")
POLONI = (
    "1 + (0.5*sin(1) - 2*cos(1) + sin(2) - 1.5*cos(2) - 0.5*sin(x1) + 2*cos(x1) - sin(x2) + 1.5*cos(x2))^2"
    " + (1.5*sin(1) - cos(1) + 2*sin(2) - 0.5*cos(2) - 1.5*sin(x1) + cos(x1) - 2*sin(x2) + 0.5*cos(x2))^2",
    "(x1 + 3)^2 + (x2 + 1)^2",
)
OSYCZKA = _file(
    _scalars((3, 0, 10), (3, 0, 10), (3, 1, 5), (3, 0, 6), (3, 1, 5), (3, 0, 10)),
    ("-(25*(x1-2)^2 + (x2-2)^2 + (x3-1)^2 + (x4-4)^2 + (x5-1)^2)", "x1^2+x2^2+x3^2+x4^2+x5^2+x6^2"),
    ("x1+x2 >= 2", "x1+x2 <= 6", "x2-x1 <= 2", "x1-3*x2 <= 2", "(x3-3)^2 + x4 <= 4", "(x5-3)^2 + x6 >= 4"),
)
G30 = "g = '1 + 9 * sum(x[1:]) / 29'"

FRONTS = (
    FrontProblem("schaffer", _file(["x = { start = 4, lower = -100, upper = 100 }"], ("x^2", "(x-2)^2")), _schaffer),
    FrontProblem(
        "fonseca",
        _file(_vector(3, -4, 4, 1.0), ("1 - exp(-sum((x - 1/sqrt(3))^2))", "1 - exp(-sum((x + 1/sqrt(3))^2))")),
        _fonseca,
    ),
    FrontProblem(
        "zdt1",
        _file(_vector(30, 0, 1, 0.5), ("x[0]", "g * (1 - sqrt(x[0] / g))"), derived=G30),
        _zdt(lambda f: 1 - np.sqrt(f)),
    ),
    FrontProblem(
        "zdt2",
        _file(_vector(30, 0, 1, 0.5), ("x[0]", "g * (1 - (x[0] / g)^2)"), derived=G30),
        _zdt(lambda f: 1 - f**2),
    ),
    FrontProblem(
        "zdt3",
        _file(_vector(30, 0, 1, 0.5), ("x[0]", "g * (1 - sqrt(x[0]/g) - x[0]/g * sin(10 * pi * x[0]))"), derived=G30),
        _zdt(lambda f: 1 - np.sqrt(f) - f * np.sin(10 * np.pi * f)),
    ),
    FrontProblem(
        "zdt4",
        _file(
            [
                "y = { start = 0.5, lower = 0, upper = 1 }",
                "x = { start = 2, lower = -5, upper = 5, shape = 9 }",
            ],
            ("y", "g * (1 - sqrt(y / g))"),
            derived="g = '91 + sum(x^2 - 10 * cos(4 * pi * x))'",
        ),
        _zdt(lambda f: 1 - np.sqrt(f)),
    ),
    FrontProblem(
        "zdt6",
        _file(
            _vector(10, 0, 1, 0.5),
            ("f", "g * (1 - (f / g)^2)"),
            derived="f = '1 - exp(-4 * x[0]) * sin(6 * pi * x[0])^6'\ng = '1 + 9 * (sum(x[1:]) / 9)^0.25'",
        ),
        _zdt6,
        is_smooth=False,
    ),
    FrontProblem(
        "kursawe",
        _file(
            _vector(3, -5, 5, 1.0),
            ("sum(-10 * exp(-0.2 * sqrt(x[:-1]^2 + x[1:]^2)))", "sum(abs(x)^0.8 + 5 * sin(x^3))"),
        ),
        _kursawe,
        is_smooth=False,
    ),
    FrontProblem("poloni", _file(_scalars((1, -np.pi, np.pi), (1, -np.pi, np.pi)), POLONI), _poloni),
    FrontProblem(
        "binh-korn",
        _file(
            _scalars((1, 0, 5), (1, 0, 3)),
            ("4*x1^2 + 4*x2^2", "(x1-5)^2 + (x2-5)^2"),
            ("(x1-5)^2 + x2^2 <= 25", "(x1-8)^2 + (x2+3)^2 >= 7.7"),
        ),
        _binh,
    ),
    FrontProblem(
        "srinivas",
        _file(
            _scalars((1, -20, 20), (1, -20, 20)),
            ("2 + (x1-2)^2 + (x2-1)^2", "9*x1 - (x2-1)^2"),
            ("x1^2 + x2^2 <= 225", "x1 - 3*x2 <= -10"),
        ),
        _srinivas,
    ),
    FrontProblem(
        "tanaka",
        _file(_scalars((1, 0.000001, 3.1416), (1, 0.000001, 3.1416)), ("x1", "x2"), TANAKA_LIMITS),
        _tanaka,
    ),
    FrontProblem(
        "simple-limits",
        _file(_scalars((0.5, 0.1, 1), (1, 0, 5)), ("x1", "(1 + x2) / x1"), ("x2 + 9*x1 >= 6", "-x2 + 9*x1 >= 1")),
        _simple,
    ),
    FrontProblem("osyczka", OSYCZKA, _osyczka),
    FrontProblem(
        "viennet2",
        _file(
            _scalars((1, -4, 4), (1, -4, 4)),
            (
                "(x1-2)^2/2 + (x2+1)^2/13 + 3",
                "(x1+x2-3)^2/36 + (-x1+x2+2)^2/8 - 17",
                "(x1+2*x2-1)^2/175 + (2*x2-x1)^2/17 - 13",
            ),
        ),
        _viennet2,
    ),
    FrontProblem(
        "dtlz1",
        _file(
            _vector(7, 0, 1, 0.3),
            ("0.5*x[0]*x[1]*(1+g)", "0.5*x[0]*(1-x[1])*(1+g)", "0.5*(1-x[0])*(1+g)"),
            derived="g = '100*(5 + sum((x[2:]-0.5)^2 - cos(20*pi*(x[2:]-0.5))))'",
        ),
        _simplex,
    ),
    FrontProblem(
        "dtlz2",
        _file(
            _vector(12, 0, 1, 0.3),
            (
                "(1+g)*cos(x[0]*pi/2)*cos(x[1]*pi/2)",
                "(1+g)*cos(x[0]*pi/2)*sin(x[1]*pi/2)",
                "(1+g)*sin(x[0]*pi/2)",
            ),
            derived="g = 'sum((x[2:]-0.5)^2)'",
        ),
        _sphere,
    ),
    FrontProblem(
        "dtlz7",
        _file(
            _vector(22, 0, 1, 0.5),
            ("x[0]", "x[1]", "(1+g)*(3 - x[0]/(1+g)*(1+sin(3*pi*x[0])) - x[1]/(1+g)*(1+sin(3*pi*x[1])))"),
            derived="g = '1 + 9*sum(x[2:])/20'",
        ),
        _dtlz7,
    ),
    FrontProblem(
        "quarter-circle",
        _file(_scalars((0.9, 0, 2), (0.9, 0, 2), (0.5, -1, 1)), ("x1 + x3^2", "x2 + x3^2"), ("x1^2 + x2^2 >= 1",)),
        _circle,
    ),
    FrontProblem(
        "triangle",
        _file(
            _scalars((2, -5, 5), (2, -5, 5)),
            ("x1^2 + x2^2", "(x1-4)^2 + x2^2", "(x1-1)^2 + (x2-3)^2"),
        ),
        _paraboloids,
    ),
    FrontProblem(
        "along-a-limit",
        _file(_scalars((2, -5, 5), (2, -5, 5)), ("x1^2 + x2^2", "(x1-3)^2 + (x2-1)^2"), ("x2 + x1/4 >= 1.2",)),
        _capped,
    ),
)


def front_named(name: str) -> FrontProblem:
    """Return a problem by its name."""
    return next(item for item in FRONTS if item.name == name)
