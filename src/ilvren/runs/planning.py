"""Deciding on a run, once: what it solves and how it treats that, by which method, with what limits.

Everything that can be refused is refused here, before anything is recorded.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.methods import Method, options_from
from ilvren.methods.pieces import evaluating
from ilvren.problem import Problem, on_document, refined_problem
from ilvren.runs.choice import chosen_method, design_count
from ilvren.runs.front_choice import refuse_front
from ilvren.runs.handling import refuse_unhandled
from ilvren.runs.plan import Plan
from ilvren.runs.settings import DEFAULT_EVALUATIONS, Settings
from ilvren.runs.sources import with_source
from ilvren.runs.stages import staged_problems
from ilvren.runs.stored import problem_of, refuse_changed

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord
    from ilvren.runs.on_approximation import On, Truly

__all__ = [
    "begun_along_start",
    "check_label",
    "first_method",
    "planned",
    "planned_again",
    "planned_as_it_stands",
    "planned_from",
]

FloatArray = NDArray[np.float64]


def planned(
    problem: Problem,
    settings: Settings,
    *,
    stages: Sequence[Mapping[str, Any]] = (),
    multipliers: tuple[FloatArray, FloatArray] | None = None,
    sample: Mapping[str, Any] | None = None,
    on: On | None = None,
    has_known: bool = False,
) -> Plan:
    """Return the plan of a run that no ledger knows yet (`runs.run` says what is what). Raises RequestError and
    ProblemError for all that cannot be run. Multipliers are (m,) and (n,)."""
    if len(problem.objectives) > 1:
        from ilvren.problem import fronted

        problem = fronted(problem)
    before = dict(problem.overrides)
    problems = staged_problems(problem, stages) if stages else [problem]
    why, treatment = "", ""
    if problem.is_over_time:
        from ilvren.runs.treatment import treated

        if stages and problems[-1].is_collocated:
            raise RequestError(
                f"--scheme {problems[-1].refinement.scheme}: a run by stages simulates what evolves",
                advice="leave --scheme out, or run the last stage's parameters alone (--set)",
            )
        is_search = sample is None and on is None and not stages
        found = treated(problems[-1], settings.method, is_search=is_search)
        if found.problem is not problems[-1]:
            multipliers = None  # of other rows: those of a simulation
        problems[-1], treatment = found.problem, found.why
    if problem.is_about_scatter:
        problems = _about_scatter(problems, settings, sample, on)
    problem = problems[-1]
    refuse_front(problem, settings, has_stages=bool(stages))
    if settings.reference_point is not None:
        from ilvren.runs.front import refuse_reference

        refuse_reference(problem, settings.reference_point)
    if sample is not None:
        chosen = early = _evaluating(problem, sample)
        settings, searched = replace(settings, method=chosen.name), problem
    else:
        searched = problem if on is None else _searched(problem, on, has_known=has_known, has_stages=bool(stages))
        chosen, choice = chosen_method(searched, settings, has_options=bool(settings.options))
        early, why = first_method(searched, settings), choice.sentence if choice else ""
        settings = _with_room(searched, chosen, settings)
    check_label(settings.label)
    options = options_from(chosen, settings.options)
    refuse_unhandled(searched, chosen)
    if has_known:
        from ilvren.runs.known import refuse_known

        refuse_known(chosen)
    with_source(problem, settings.derivatives)
    for calls in problem.calls():
        calls.ready()  # a file that cannot be imported is found before anything is recorded
    return Plan(
        problems=tuple(problems),
        method=chosen,
        early=early,
        options=options,
        settings=settings,
        stages=tuple(stages),
        before=before,
        why="; ".join(filter(None, (why, treatment))),
        multipliers=multipliers,
        sample=sample,
        on=on,
    )


def planned_from(plan: Plan, ledger: Ledger, origin: str | None, known: Sequence[str]) -> Plan:
    """Return the plan with what it begins with from a ledger: the design and multipliers of the run `origin`, the
    designs of the runs `known`. Raises RequestError for one that has nothing for this problem."""
    if origin is not None:
        from ilvren.runs.warm import begun_from

        begun, multipliers = begun_from(plan.problem, ledger, origin)
        start = np.array(begun.start)
        earlier = tuple(one.with_starts(start) for one in plan.problems[:-1])
        plan = replace(plan, problems=(*earlier, begun), multipliers=multipliers)
    if known:
        from ilvren.runs.known import known_designs, known_recorded

        recorded = known_recorded(ledger, known)
        plan = replace(plan, known=known_designs(plan.problem, ledger, recorded), known_runs=recorded)
    return plan


def planned_again(
    record: RunRecord,
    ledger: Ledger,
    settings: Settings,
    *,
    as_now: bool,
    sample: Mapping[str, Any] | None = None,
    relearn: Callable[[Sequence[Truly]], str] | None = None,
) -> Plan:
    """Return the plan of a run on record, to be gone on with: with new limits or, of a `sample`, more designs. Raises
    RequestError where its models' files have changed, unless `as_now`."""
    record = _before_stages(record)
    facts = record.overrides
    problem = problem_of(record)
    if facts.get("unknowns"):
        from ilvren.runs.treatment import recalled

        problem = recalled(problem, facts["unknowns"])
    refuse_changed(record, problem, as_now=as_now)
    for calls in problem.calls():
        calls.ready()  # or a run that could be gone on with would end as one whose model failed
    on, why = None, ""
    sample = sample or facts.get("sample")
    if sample is not None:
        chosen = early = _evaluating(problem, sample)
    else:
        if "on" in facts:
            from ilvren.runs.on_approximation import On

            on = On.recalled(facts["on"], relearn)
        searched = problem if on is None else _searched(problem, on)
        chosen, choice = chosen_method(searched, settings, has_options=False)
        early, why = first_method(searched, settings), choice.sentence if choice else ""
    stages = tuple(facts.get("stages", {}).values())
    known = None
    if facts.get("known"):
        from ilvren.runs.known import known_designs

        known = known_designs(problem, ledger, facts["known"])
    kept = facts.get("multipliers")
    return Plan(
        problems=tuple(staged_problems(_without_stages(record), stages)) if stages else (problem,),
        method=chosen,
        early=early,
        options=options_from(chosen, settings.options),
        settings=settings,
        stages=stages,
        why=why,
        multipliers=None if kept is None else (np.array(kept["rows"], float), np.array(kept["bounds"], float)),
        sample=sample,
        on=on,
        known=known,
        confirms=sample is None,
        ledger=ledger,
        number=record.number,
        is_resumed=True,
    )


def planned_as_it_stands(problem: Problem, settings: Settings) -> Plan:
    """Return the plan of a run in one stage on a problem that was made of a file's. Raises RequestError."""
    if problem.is_collocated:
        from ilvren.runs.treatment import refuse_scheme

        refuse_scheme(settings.method, problem.refinement.scheme)
    chosen, _ = chosen_method(problem, settings, has_options=bool(settings.options))
    options = options_from(chosen, settings.options)
    return Plan(problems=(problem,), method=chosen, early=chosen, options=options, settings=settings)


def first_method(problem: Problem, settings: Settings) -> Method:
    """Return the method of the settings without a second look."""
    return chosen_method(problem, replace(settings, second_look=0.0), has_options=bool(settings.options))[0]


def check_label(label: str | None) -> None:
    """Raise RequestError for a label that could be taken for an id."""
    if label is None:
        return
    is_id = label[:1] in "rga" and label[1:].isdigit()
    if is_id or label == "last" or not label.strip() or label != label.strip():
        raise RequestError(f'--label "{label}" could be taken for an id', advice="choose a word such as winter-tariff")


def begun_along_start(problem: Problem) -> Problem:
    """Return a problem over time whose steps are chosen along the design that the run begins with."""
    if not problem.simulations or problem.start == problem.baseline:
        return problem
    return refined_problem(problem, replace(problem.refinement, anchor=problem.start))


def _about_scatter(
    problems: list[Problem], settings: Settings, sample: Mapping[str, Any] | None, on: On | None
) -> list[Problem]:
    """Return problems about scatter as a run takes them: searches begin with few scenarios, samples are counted."""
    from ilvren.runs.scatter_stages import begun_with_all, begun_with_few, counted_problem

    if sample is not None and not sample.get("slopes"):
        return [counted_problem(one, settings.seed) for one in problems]  # what is told of a sample is counted
    if on is not None:
        return problems
    begins = begun_with_few if len(problems[-1].objectives) <= 1 else begun_with_all
    return [begins(one, settings.seed) for one in problems]


def _searched(problem: Problem, on: On, *, has_known: bool = False, has_stages: bool = False) -> Problem:
    """Return the problem that a search on an approximation works on. Raises RequestError."""
    from ilvren.runs.predicted import refuse_on

    if has_known or has_stages:
        raise RequestError(f"--on: {'--known' if has_known else '--stage'} belongs to a search on the problem itself")
    refuse_on(problem)
    return on_document(problem, on.documents[0])


def _evaluating(problem: Problem, sample: Mapping[str, Any]) -> Method:
    """Return what evaluates the designs of a plan."""
    designs = np.array(sample["designs"], dtype=float).reshape(-1, problem.size)
    # Wherever the run is listed it says of itself that its values are no true ones.
    name = f"{sample['plan']} (predicted)" if problem.aim.on else str(sample["plan"])
    parts = [int(k) for k in sample.get("parts", ())]
    return evaluating(name, designs[:, list(problem.free)], parts, with_slopes=bool(sample.get("slopes")))


def _with_room(problem: Problem, chosen: Method, settings: Settings) -> Settings:
    """Return the settings, the usual limit on evaluations raised where a method counts on trying every design, or a
    second look is to take longer."""
    if settings.evaluations == DEFAULT_EVALUATIONS and settings.look_scale > 1.0:
        return replace(settings, evaluations=int(settings.look_scale * DEFAULT_EVALUATIONS))
    count = design_count(problem) if chosen.only_members else None
    if count is None or settings.evaluations != DEFAULT_EVALUATIONS:
        return settings
    return replace(settings, evaluations=max(settings.evaluations, count + 1))


def _before_stages(record: RunRecord) -> RunRecord:
    """Return the record of a run over time as it was before its stages looked more finely."""
    first = record.overrides.get("time_first")
    if first is None:
        return record
    return replace(record, overrides={**record.overrides, "time": first})


def _without_stages(record: RunRecord) -> Problem:
    """Return the problem of a run as it was before its stages set parameters."""
    return problem_of(replace(record, overrides={**record.overrides, "set": record.overrides["before"]}))
