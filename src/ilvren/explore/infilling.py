"""More designs where an approximation needs them: where it is least sure, and where it would decide.

Of some thousand candidates those are evaluated truly, in rounds, whose spread over the deviation of each output is
largest, each output weighed by its error; every second one among those that the approximation calls the best, for what
is decided there. One that is near another chosen before counts for less:

    u(x) = Σ_o e_o s_o(x) / d_o · (1 − p_fail(x)) · Π_chosen (1 − exp(−|x − x_c|² / 2 l²))                         (1)

Source: in the spirit of D. A. Cohn, Z. Ghahramani, M. I. Jordan, "Active learning with statistical models", 1996.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Gate, measured
from ilvren.explore.approximating import learned
from ilvren.explore.learned_surfaces import Learned, LearnedGroup
from ilvren.explore.sampling import Planned, full_designs, more, sample, space_of
from ilvren.problem import Problem, on_document
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.plans import Space

__all__ = ["INFILL", "Round", "infilled"]

FloatArray = NDArray[np.float64]

# The name of such a sample.
INFILL = "infill"
# Rounds that the designs are spread over, candidates, the share of them that is called the best, and l of (1) as a
# share of the box.
ROUNDS, CANDIDATES, BEST_SHARE, APART = 5, 4000, 0.05, 0.15
# A design that fails with more than this chance would teach little; and where some fail, one beyond all that did not.
MOST_CHANCE = 0.25


@dataclass(frozen=True)
class Round:
    """One round: how many designs were evaluated so far, and the largest error (of output `name`) after it."""

    designs: int
    name: str
    error: float


def infilled(
    ledger: Ledger,
    references: Sequence[str],
    budget: int,
    *,
    error: float | None = None,
    workers: int | str | None = None,
    told: Callable[[Round], None] | None = None,
    listener: Callable[[Any], None] | None = None,
    **how: Any,
) -> Learned:
    """Return an approximation learnt with up to `budget` more designs, evaluated truly, or until every error is at most
    `error`; `how` as `learned` takes it. Raises RequestError."""
    if budget < 1:
        raise RequestError(f"--infill must be at least 1, not {budget}")
    if error is not None and not error > 0.0:
        raise RequestError(f"--error must be above 0, not {error:g}", advice="0.05: five per cent of the deviation")
    found = learned(ledger, references, **how)
    problem = found.problem
    space = space_of(problem)
    batch, made = max(1, -(-budget // ROUNDS)), 0
    run: str | None = None
    rounds = [_round(found, 0)]
    if told is not None:
        told(rounds[0])
    while made < budget and not (error is not None and rounds[-1].error <= error):
        count = min(batch, budget - made)
        designs = _chosen(problem, found, space, count, np.random.default_rng([how.get("seed", 0), 41, made]))
        if not len(designs):
            break
        if run is None:
            facts = {"seed": how.get("seed", 0), "options": {}, "points": budget, "of": list(references)}
            result = sample(
                Planned(problem, INFILL, designs, (), space, None, facts), ledger=ledger, workers=workers,
                listener=listener,
            )  # fmt: skip
            run = result.id
            assert run
        else:
            kept = ledger.run(run).overrides["sample"]
            parts = [*kept["parts"], len(kept["designs"]) - sum(kept["parts"])]
            whole = {**kept, "designs": [*kept["designs"], *designs.tolist()], "parts": parts}
            result = more(ledger, run, whole, workers=workers, listener=listener)
        made += len(designs)
        ledger.flush()
        if result.outcome == "interrupted":
            raise KeyboardInterrupt
        found = learned(ledger, [*references, run], **how)
        rounds.append(_round(found, made))
        if told is not None:
            told(rounds[-1])
    facts = {**found.facts, "infill": [[item.designs, item.name, item.error] for item in rounds]}
    return replace(found, facts=facts)


def _round(found: Learned, made: int) -> Round:
    name, output = max(found.outputs.items(), key=lambda pair: pair[1].approximated.told.error)
    return Round(made, name, output.approximated.told.error)


def _chosen(problem: Problem, found: Learned, space: Space, count: int, rng: np.random.Generator) -> FloatArray:
    """Return full designs (k, n) that are worth evaluating, by (1)."""
    shares = rng.random((CANDIDATES, space.size))
    designs = np.unique(full_designs(problem, space.designs(shares)), axis=0)
    places = space.shares(designs[:, list(problem.free)])
    predicted = on_document(problem, found.document("a"))
    gate = Gate(predicted)
    unsure = np.zeros(len(designs))
    for group, item in zip(found.groups, _learnt(predicted, found), strict=True):
        columns = gate.written.node_batch(list(item.nodes[: len(group.inputs)]), designs)
        inputs = np.array([column[:, 0] for column in columns]).T
        unsure += _unsure(group, inputs)
    is_best = _called_best(predicted, gate, designs, count)
    chosen: list[int] = []
    for number in range(min(count, len(designs))):
        own = np.where(is_best, unsure, -1.0) if number % 2 else unsure
        place = int(np.argmax(own))
        if not own[place] > 0.0:
            place = int(np.argmax(unsure))
            if not unsure[place] > 0.0:
                break
        chosen.append(place)
        apart = ((places - places[place]) ** 2).sum(axis=1)
        unsure = unsure * (1.0 - np.exp(-apart / (2.0 * APART**2 * space.size)))
        unsure[place] = 0.0
    return np.asarray(designs[chosen])


def _called_best(predicted: Problem, gate: Gate, designs: FloatArray, count: int) -> NDArray[np.bool_]:
    """Return which designs (k,) the approximation calls the best; all where it does not stand for all models: then only
    true calls could tell."""
    if predicted.sources or predicted.simulations:
        return np.ones(len(designs), dtype=bool)
    found = gate.written.batch(designs)
    measures = measured(predicted, gate)
    missed = np.array([measures.violation(point, own) for point, own in zip(designs, found.rows, strict=True)])
    order = np.lexsort((found.objective, np.where(missed <= 1e-6, 0.0, missed)))
    is_best = np.zeros(len(designs), dtype=bool)
    is_best[order[: max(count, int(BEST_SHARE * len(designs)))]] = True
    return is_best


def _learnt(predicted: Problem, found: Learned) -> list[Any]:
    """Return where each group stands in a problem."""
    by_model = {item.group.model: item for item in predicted.template.learnt}
    return [by_model[group.model] for group in found.groups]


def _unsure(group: LearnedGroup, inputs: FloatArray) -> FloatArray:
    total = np.zeros(len(inputs))
    for output in group.outputs:
        deviation = float(output.y.std())
        if deviation > 0.0:
            made = output.approximated
            total += made.told.error * made.surface.spread_at(inputs) / deviation
    if group.failing is not None:
        chance = group.failing.at(inputs)
        learnt = group.outputs[0].x
        is_inside = ((inputs >= learnt.min(axis=0)) & (inputs <= learnt.max(axis=0))).all(axis=1)
        total *= np.where((chance <= MOST_CHANCE) & is_inside, 1.0 - chance, 0.0)
    return total
