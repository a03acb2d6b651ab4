"""What fronts promise: how much of the best hypervolume that so many points can attain is found, with how many
evaluations. `python -m benchmarks.fronts [METHOD …] [--only NAME …]`; without a method the default. `--tenth`: the
evaluations with derivatives against those of a population, `--own`: what sorting costs alone, `--verified`: how many
members hold, and how many planted ones are found."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from tests.front_problems import FRONTS, FrontProblem

from ilvren import run
from ilvren.algebra import domination_layers, hypervolume, spread_subset
from ilvren.judge.fronts.verification import JudgedTradeOff, verify_front
from ilvren.ledger import Ledger
from ilvren.methods.base import Assessment, Reply, Request, Task, method_named
from ilvren.methods.pieces.options import options_from
from ilvren.runs.limits import by_block

# Points asked for: of two objectives, of three.
POINTS = {2: 100, 3: 150}
# A gradient counts as so many evaluations.
EXCHANGE = 3
# The hypervolume counts as reached within this share: populations are measured by the same designs.
REACHED = 1.0


@dataclass(frozen=True)
class Attained:
    """The share of the attainable hypervolume found, and what it took."""

    share: float
    evaluations: int
    gradients: int
    points: int
    seconds: float
    outcome: str


def attainable(front: np.ndarray, points: int) -> tuple[float, np.ndarray]:
    """Return the hypervolume of the best known choice of so many points of a dense front, each objective over its
    range, and (low, extent)."""
    low, high = front.min(axis=0), front.max(axis=0)
    scaled = (front - low) / (high - low)
    chosen = scaled[spread_subset(scaled, points)]
    return hypervolume(chosen, np.full(front.shape[1], 1.1)), np.array([low, high - low])


def attained(item: FrontProblem, method: str | None, **settings: object) -> Attained:
    """Run a method and measure what it found."""
    front = item.front()
    count = POINTS[front.shape[1]]
    best, (low, extent) = attainable(front, count)
    began = time.perf_counter()
    result = run(item.problem(), method=method, points=count, **settings)
    seconds = time.perf_counter() - began
    assert result.front is not None
    values = (result.front.values - low) / extent
    share = hypervolume(values, np.full(front.shape[1], 1.1)) / best
    counts = result.counts
    return Attained(share, counts["evaluations"], counts["gradients"], len(values), seconds, result.outcome)


def tenth() -> None:
    """Print the work after which derivatives have the hypervolume at which a population of 100 ends."""
    print("work until the hypervolume of nondominated-sorting (100 designs, 200 generations), over its evaluations")
    for item in FRONTS:
        front = item.front()
        if not item.is_smooth or front.shape[1] != 2:
            continue
        low, extent = front.min(axis=0), np.ptp(front, axis=0)
        corner = np.full(2, 1.1)
        population = run(
            item.problem(),
            method="nondominated-sorting",
            points=100,
            options={"population": 100, "generations": 200, "idle": 100_000},
        )
        assert population.front is not None
        goal = hypervolume((population.front.values - low) / extent, corner)
        told = []
        for method in ("boundary-intersection", "front-continuation"):
            found = "never"
            for points in (20, 40, 70, 100, 150, 220):
                result = run(item.problem(), method=method, points=points)
                work = result.counts["evaluations"] + EXCHANGE * result.counts["gradients"]
                assert result.front is not None
                values = (result.front.values - low) / extent
                if len(values) and hypervolume(values, corner) >= REACHED * goal:
                    found = f"{work / population.counts['evaluations']:.3f} ({points} points)"
                    break
            told.append(f"{method} {found}")
        print(f"  {item.name:16} {'; '.join(told)}")


def own_cost() -> None:
    """Print what nondominated-sorting takes by itself for each evaluation, beside the bare sorting of 200 designs."""
    n, method = 10, method_named("nondominated-sorting")
    free = np.full(2, np.inf)
    task = Task(
        start=np.full(n, 0.5),
        lower=np.zeros(n),
        upper=np.ones(n),
        row_lower=-free,
        row_upper=free,
        row_sizes=np.ones(2),
        objectives=(0, 1),
        signs=(1.0, 1.0),
        points=100,
    )
    options = options_from(method, {"population": 100, "generations": 200, "idle": 100_000})
    generator, answer, own, count = method.run(task, options), None, 0.0, 0
    began = time.process_time()
    try:
        while True:
            message = generator.send(answer)
            own += time.process_time() - began
            answer = Assessment(0.0, None, False)
            if isinstance(message, Request):
                x = message.points
                g = 1 + 9 * x[:, 1:].mean(axis=1)
                rows = np.column_stack([x[:, 0], g * (1 - np.sqrt(x[:, 0] / g))])
                answer, count = Reply(np.zeros(len(x)), rows), count + len(x)
            began = time.process_time()
    except StopIteration:
        pass
    values = np.random.default_rng(0).random((200, 2))
    began = time.process_time()
    for _ in range(1000):
        domination_layers(values)
    sorting = (time.process_time() - began) / 1000
    each = own / count
    print(f"nondominated-sorting by itself: {1e6 * each:.1f} microseconds of CPU an evaluation")
    print(f"  a generation of 100: {100 * each / sorting:.1f} times what sorting 200 designs into layers takes")


def is_dominated(item: FrontProblem, member: JudgedTradeOff) -> bool:
    """Return whether a design of the known front is better than a member by more than rounding."""
    front = item.front()
    values, slack = np.array(list(member.objectives.values())), 1e-6 * np.ptp(front, axis=0)
    return bool(((front <= values).all(axis=1) & (front < values - slack).any(axis=1)).any())


def verified() -> None:
    """Print the share of members that hold, of fronts by derivatives, and of planted worse ones that are found."""
    hold = members = found = planted = 0
    rng = np.random.default_rng(7)
    with tempfile.TemporaryDirectory() as folder:
        for item in FRONTS:
            if not item.is_smooth or item.name in ("zdt1", "zdt2", "zdt3", "zdt4", "dtlz1", "dtlz2", "dtlz7"):
                continue
            with Ledger(f"{folder}/{item.name}.ledger") as ledger:
                run(item.problem(), points=20, ledger=ledger)
                record = ledger.run("r1")
                judged = verify_front(ledger, record)
                own = sum(member.holds for member in judged.members)
                hold, members = hold + own, members + len(judged.members)
                assert record.result is not None
                documents = record.result["front"]
                problem = item.problem()
                low, high = problem.joined("lower"), problem.joined("upper")
                places = rng.choice(len(documents), min(4, len(documents)), replace=False)
                for place in places:
                    point = np.concatenate([np.ravel(v) for v in documents[place]["variables"].values()])
                    point = np.clip(point + 0.02 * (high - low) * rng.normal(size=len(point)), low, high)
                    documents[place]["variables"] = by_block(problem.blocks, point.tolist())
                again = verify_front(ledger, record)
                # Some are moved along the front: only those that it dominates are worse.
                worse = [again.members[place] for place in places if is_dominated(item, again.members[place])]
                caught, moved = sum(not member.holds for member in worse), len(worse)
                found, planted = found + caught, planted + moved
                print(f"  {item.name:16} {own} of {len(judged.members)} hold; {caught} of {moved} moved ones found")
    print(
        f"  {100 * hold / members:.1f} % hold; of {planted} moved members that the front dominates {found} do not hold"
    )


def main(arguments: Sequence[str] = ()) -> None:
    """Print a table."""
    if "--tenth" in arguments:
        return tenth()
    if "--own" in arguments:
        return own_cost()
    if "--verified" in arguments:
        return verified()
    only = arguments[arguments.index("--only") + 1 :] if "--only" in arguments else []
    methods = list(arguments[: arguments.index("--only")] if "--only" in arguments else arguments)
    for method in methods or [""]:
        print(f"{method or 'default'}:  share of the attainable hypervolume, evaluations (gradients as {EXCHANGE})")
        shares: dict[str, list[float]] = {"two": [], "three": [], "smooth": []}
        for item in FRONTS:
            if only and item.name not in only:
                continue
            found = attained(item, method or None)
            kind = "two" if "f3" not in item.text else "three"
            shares[kind].append(found.share)
            if item.is_smooth and kind == "two":
                shares["smooth"].append(found.share)
            work = found.evaluations + EXCHANGE * found.gradients
            print(
                f"  {item.name:16} {found.share:7.4f} {work:8d}   {found.points:4d} points"
                f" {found.seconds:6.1f} s  {found.outcome}"
            )
        for kind, least in (("smooth", 0.99), ("two", 0.99), ("three", 0.95)):
            own = shares[kind]
            if own:
                good = sum(share >= least for share in own)
                print(f"  {kind:6} {good} of {len(own)} at {least:g} and above ({100 * good / len(own):.0f} %)")


if __name__ == "__main__":
    main(sys.argv[1:])
