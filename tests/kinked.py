"""Published problems with kinks, with the objective at their known optimum: minimax, sums of absolute values, exact
penalties.

Sources: C. Charalambous, A. Conn, 1978; V. Demyanov, V. Malozemov, 1974; R. Mifflin, 1982; J. Rosen, S. Suzuki, 1965;
K. Madsen, 1975; K. Madsen, H. Schjær-Jacobsen, 1978; D. Wong, 1981; W. Davidon (the Chebyshev fit), 1975; R. El-Attar,
M. Vidyasagar, S. Dutta, 1979; J. Bard, 1970; J. Kowalik, M. Osborne, 1968; K. Kiwiel, "Methods of Descent for
Nondifferentiable Optimization", 1985.
"""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["KINKED_PROBLEMS", "KinkedProblem"]


@dataclass(frozen=True)
class KinkedProblem:
    """The problem as a file, and the objective at its optimum."""

    name: str
    text: str
    optimum: float


def _file(starts: str, objective: str, more: str = "", limits: str = "", parameters: str = "") -> str:
    names = [f"x{k} = {{ start = {value} }}" for k, value in enumerate(starts.split(), start=1)]
    return "\n".join(
        [
            "[variables]",
            *names,
            *(["[parameters]", parameters] if parameters else []),
            *(["[derived]", more] if more else []),
            "[minimize]",
            f'f = "{objective}"',
            *(["[constraints]", limits] if limits else []),
        ]
    )


_ROSEN_SUZUKI = """
f1 = "x1^2 + x2^2 + 2*x3^2 + x4^2 - 5*x1 - 5*x2 - 21*x3 + 7*x4"
f2 = "x1^2 + x2^2 + x3^2 + x4^2 + x1 - x2 + x3 - x4 - 8"
f3 = "x1^2 + 2*x2^2 + x3^2 + 2*x4^2 - x1 - x4 - 10"
f4 = "2*x1^2 + x2^2 + x3^2 + 2*x1 - x2 - x4 - 5"
"""
_WONG = """
f1 = "(x1-10)^2 + 5*(x2-12)^2 + x3^4 + 3*(x4-11)^2 + 10*x5^6 + 7*x6^2 + x7^4 - 4*x6*x7 - 10*x6 - 8*x7"
f2 = "2*x1^2 + 3*x2^4 + x3 + 4*x4^2 + 5*x5 - 127"
f3 = "7*x1 + 3*x2 + 10*x3^2 + x4 - x5 - 282"
f4 = "23*x1 + x2^2 + 6*x6^2 - 8*x7 - 196"
f5 = "4*x1^2 + x2^2 - 3*x1*x2 + 2*x3^2 + 5*x6 - 11*x7"
"""
_DAVIDON = 't = "evenly(0.2, 4.0, 20)"\nr = "(x1 + x2*t - exp(t))^2 + (x3 + x4*sin(t) - cos(t))^2"'
_EL_ATTAR = """
t = "evenly(0.0, 5.0, 51)"
y = "0.5*exp(-t) - exp(-2*t) + 0.5*exp(-3*t) + 1.5*exp(-1.5*t)*sin(7*t) + exp(-2.5*t)*sin(5*t)"
r = "x1*exp(-x2*t)*cos(x3*t + x4) + x5*exp(-x6*t) - y"
"""
_BARD = "y = [0.14, 0.18, 0.22, 0.25, 0.29, 0.32, 0.35, 0.39, 0.37, 0.58, 0.73, 0.96, 1.34, 2.10, 4.39]"
_BARD_FIT = 'u = "evenly(1, 15, 15)"\nr = "y - x1 - u/((16-u)*x2 + min(u, 16-u)*x3)"'
_KOWALIK = """u = [4.0, 2.0, 1.0, 0.5, 0.25, 0.167, 0.125, 0.1, 0.0833, 0.0714, 0.0625]
y = [0.1957, 0.1947, 0.1735, 0.1600, 0.0844, 0.0627, 0.0456, 0.0342, 0.0323, 0.0235, 0.0246]"""

KINKED_PROBLEMS = (
    KinkedProblem("cb2", _file("1 -0.1", "max(x1^2 + x2^4, (2-x1)^2 + (2-x2)^2, 2*exp(x2-x1))"), 1.9522245),
    KinkedProblem("cb3", _file("2 2", "max(x1^4 + x2^2, (2-x1)^2 + (2-x2)^2, 2*exp(x2-x1))"), 2.0),
    KinkedProblem("dem", _file("1 1", "max(5*x1 + x2, -5*x1 + x2, x1^2 + x2^2 + 4*x2)"), -3.0),
    KinkedProblem(
        "ql",
        _file("-1 5", "x1^2 + x2^2 + max(0, 10*(4 - 4*x1 - x2), 10*(6 - x1 - 2*x2))"),
        7.2,
    ),
    KinkedProblem("lq", _file("-0.5 -0.5", "max(-x1 - x2, -x1 - x2 + x1^2 + x2^2 - 1)"), -(2.0**0.5)),
    KinkedProblem("mifflin1", _file("0.8 0.6", "-x1 + 20*max(x1^2 + x2^2 - 1, 0)"), -1.0),
    KinkedProblem("mifflin2", _file("-1 -1", "-x1 + 2*(x1^2 + x2^2 - 1) + 1.75*abs(x1^2 + x2^2 - 1)"), -1.0),
    KinkedProblem("crescent", _file("-1.5 2", "max(x1^2 + (x2-1)^2 + x2 - 1, -x1^2 - (x2-1)^2 + x2 + 1)"), 0.0),
    KinkedProblem(
        "rosen-suzuki", _file("0 0 0 0", "max(f1, f1 + 10*f2, f1 + 10*f3, f1 + 10*f4)", _ROSEN_SUZUKI), -44.0
    ),
    KinkedProblem("wong1", _file("1 2 0 4 0 1 1", "max(f1, f1 + 10*max(f2, f3, f4, f5))", _WONG), 680.6300573),
    KinkedProblem("madsen", _file("3 1", "max(abs(x1^2 + x2^2 + x1*x2), abs(sin(x1)), abs(cos(x2)))"), 0.6164324),
    KinkedProblem("davidon", _file("25 5 -5 -1", "max(abs(r))", _DAVIDON), 115.706438),
    KinkedProblem("bard", _file("1 1 1", "max(abs(r))", _BARD_FIT, parameters=_BARD), 0.050816327),
    KinkedProblem(
        "kowalik-osborne",
        _file(
            "0.25 0.39 0.415 0.39",
            "max(abs(x1*(u^2 + x2*u)/(u^2 + x3*u + x4) - y))",
            parameters=_KOWALIK,
        ),
        0.0080843684,
    ),
    KinkedProblem("el-attar", _file("2 2 7 0 -2 1", "sum(abs(r))", _EL_ATTAR), 0.5598131),
    KinkedProblem(
        "evd52",
        _file(
            "1 1 1",
            "max(x1^2 + x2^2 + x3^2 - 1, x1^2 + x2^2 + (x3-2)^2, x1 + x2 + x3 - 1, x1 + x2 - x3 + 1,"
            " 2*(x1^3 + 3*x2^2 + (5*x3 - x1 + 1)^2), x1^2 - 9*x3)",
        ),
        3.5997193,
    ),
    KinkedProblem(
        "exponential",
        _file(
            "0.5 0 0 0 0",
            "max(abs((x1 + x2*t)/(1 + t*(x3 + t*(x4 + t*x5))) - exp(t)))",
            't = "evenly(-1, 1, 21)"',
        ),
        1.2237125e-4,
    ),
    KinkedProblem("goffin", "[variables]\nx = { shape = 50, start = 3 }\n[minimize]\nf = '50*max(x) - sum(x)'", 0.0),
    KinkedProblem("maxq", "[variables]\nx = { shape = 20, start = 7 }\n[minimize]\nf = 'max(x^2)'", 0.0),
    KinkedProblem(
        "largest of a fit",
        _file(
            "0 0",
            "max(abs(x1 + x2*t - sqrt(t)))",
            't = "evenly(0, 1, 101)"',
        ),
        0.125,
    ),
    KinkedProblem(
        "under a limit",
        _file("1 1", "x1^2 + x2^2 - 4*x1 - 3*x2", limits='band = "max(abs(x1), abs(x2)) + 0.5*abs(x1 - x2) <= 1"'),
        -5.0,
    ),
    KinkedProblem(
        "largest of the smallest",
        "[variables]\nx = { start = 0, lower = -3, upper = 3 }\ny = { start = 0 }\n"
        "[maximize]\nf = 'min(4 - (x-1)^2 - y, x + y, 3 + y - x)'",
        2.625,
    ),
)
