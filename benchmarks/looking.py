"""What a plain run reaches: the best known design of small smooth, kinked and multimodal problems, with its second look
and without."""

from __future__ import annotations

import time

from tests.families import FAMILIES, made
from tests.kinked import KINKED_PROBLEMS
from tests.multimodal import GRIEWANK, MULTIMODAL, RASTRIGIN, Multimodal
from tests.published import PUBLISHED

from ilvren import loads, run
from ilvren.problem import Problem

# The best known design is reached within this share of the larger of its objective and 1.
CLOSE = 1e-6
# Starts of multimodal problems, as shares of the box.
STARTS = (0.37, 0.12, 0.81)
SEEDS = range(6)

# More multimodal functions, published by L. Dixon and G. Szegő (1978), A. Törn and A. Žilinskas (1989), D. Easom
# (1990), M. Styblinski and T. Tang (1990), I. Bohachevsky (1986), R. Salomon (1996), S. Mishra (2006),
# L. Trefethen (2002).
STYBLINSKI = "sum(x^4 - 16*x^2 + 5*x) / 2"
EASOM = "-cos(x[0])*cos(x[1])*exp(-(x[0] - pi)^2 - (x[1] - pi)^2)"
BOHACHEVSKY = "x[0]^2 + 2*x[1]^2 - 0.3*cos(3*pi*x[0]) - 0.4*cos(4*pi*x[1]) + 0.7"
DROP_WAVE = "-(1 + cos(12*sqrt(x[0]^2 + x[1]^2))) / (0.5*(x[0]^2 + x[1]^2) + 2)"
SALOMON = "1 - cos(2*pi*sqrt(sum(x^2))) + 0.1*sqrt(sum(x^2))"
BIRD = "(x[0]-x[1])^2 + exp((1-sin(x[0]))^2)*cos(x[1]) + exp((1-cos(x[1]))^2)*sin(x[0])"
CROSS = "-0.0001*(abs(sin(x[0])*sin(x[1])*exp(abs(100 - sqrt(x[0]^2+x[1]^2)/pi))) + 1)^0.1"
HOLDER = "-abs(sin(x[0])*cos(x[1])*exp(abs(1 - sqrt(x[0]^2+x[1]^2)/pi)))"
MCCORMICK = "sin(x[0]+x[1]) + (x[0]-x[1])^2 - 1.5*x[0] + 2.5*x[1] + 1"
THREE_HUMPS = "2*x[0]^2 - 1.05*x[0]^4 + x[0]^6/6 + x[0]*x[1] + x[1]^2"
HANSEN = " * ".join(
    "(" + " + ".join(f"{j + 1}*cos({j + shift}*x[{i}] + {j + 1})" for j in range(5)) + ")"
    for i, shift in ((0, 0), (1, 2))
)
TREFETHEN = (
    "exp(sin(50*x[0])) + sin(60*exp(x[1])) + sin(70*sin(x[0])) + sin(sin(80*x[1])) - sin(10*(x[0]+x[1]))"
    " + (x[0]^2+x[1]^2)/4"
)
MORE = (
    *(Multimodal("Styblinski and Tang", n, -5.0, 5.0, STYBLINSKI, -39.16616570377 * n) for n in (2, 5, 10)),
    Multimodal("Easom", 2, -20.0, 30.0, EASOM, -1.0),
    Multimodal("Bohachevsky", 2, -80.0, 100.0, BOHACHEVSKY, 0.0),
    Multimodal("Drop wave", 2, -4.0, 5.5, DROP_WAVE, -1.0),
    Multimodal("Salomon", 2, -80.0, 120.0, SALOMON, 0.0),
    Multimodal("Bird", 2, -6.5, 6.0, BIRD, -106.7645367),
    Multimodal("Cross in tray", 2, -9.0, 11.0, CROSS, -2.0626118708),
    Multimodal("Holder table", 2, -10.0, 10.0, HOLDER, -19.2085025679),
    Multimodal("McCormick", 2, -3.0, 4.0, MCCORMICK, -1.9132229549),
    Multimodal("Three humps", 2, -4.0, 5.0, THREE_HUMPS, 0.0),
    Multimodal("Hansen", 2, -10.0, 10.0, HANSEN, -176.5417931),
    Multimodal("Trefethen", 2, -2.0, 3.0, TREFETHEN, -3.3068686475),
    Multimodal("Rastrigin", 4, -4.1, 6.4, RASTRIGIN, 0.0),
    Multimodal("Griewank", 5, -500.0, 700.0, GRIEWANK, 0.0),
    Multimodal("Alpine", 4, -8.0, 10.0, "sum(abs(x*sin(x) + 0.1*x))", 0.0),
)


def smooth_cases() -> list[tuple[str, Problem, float]]:
    """Return (name, problem, best objective known) of published and manufactured smooth problems of a few variables."""
    found = [(case.name, case.problem(), case.best) for case in PUBLISHED]
    for family in FAMILIES:
        for seed in SEEDS:
            case = made(family, seed)
            if len(case.problem.free) <= 30:
                found.append((case.name, case.problem, case.best))
    return found


def shares() -> None:
    """Print the share of problems on which a plain run ends at the best known design, or a better one."""
    multimodal = [
        (f"{case.name} {case.n} from {start:g}", case.problem(start), case.best)
        for case in (*MULTIMODAL, *MORE)
        for start in STARTS
    ]
    kinked = [
        (case.name, loads(case.text), case.optimum * (-1 if "maximize" in case.text else 1)) for case in KINKED_PROBLEMS
    ]
    for what, cases, least in (
        ("smooth", smooth_cases(), 0.99),
        ("kinked", kinked, 0.95),
        ("multimodal", multimodal, 0.8),
    ):
        for scale in (0.0, None):
            _print_share(what, cases, least, scale)


def _sign(text: str) -> int:
    return -1 if "[maximize]" in text else 1


def _print_share(what: str, cases: list[tuple[str, Problem, float]], least: float, scale: float | None) -> None:
    hits, slow, longest, missed = 0, 0, 0.0, []
    for name, problem, best in cases:
        began = time.perf_counter()
        result = run(problem, second_look=scale)
        took = time.perf_counter() - began
        longest, slow = max(longest, took), slow + (took > 2.0)
        assert problem.objective is not None
        f = problem.objective.sign * result.objective if result.objective is not None else float("inf")
        is_reached = result.violation <= 1e-6 and f - best <= CLOSE * max(abs(best), 1.0)
        hits += is_reached
        if not is_reached:
            missed.append(name)
    with_look = "without a second look" if scale == 0.0 else f"as it is (least {least:.0%})"
    print(
        f"{what:<11} {hits / len(cases):6.1%} of {len(cases)} {with_look}; longest {longest:.1f} s, {slow} above 2 s;"
        f" missed: {', '.join(missed[:25]) or 'none'}",
        flush=True,
    )


def main() -> None:
    """Print all shares."""
    shares()
