"""What is recorded of how a run was asked for is what it was asked, at random and in every part; and what has no meaning is
refused with its own name."""

import dataclasses
import json
import unittest

import numpy as np

from ilvren.errors import RequestError
from ilvren.problem import Refinement, checked_scheme, checked_steps, loads
from ilvren.problem.scatter_plan import ScatterPlan
from ilvren.runs import Settings

FLOW = """
[time]
to = 2
steps = 4
[variables]
k = { start = 1, lower = 0.1, upper = 3 }
[states]
x = { rate = "-k * x", initial = 1 }
[minimize]
f = "last(x)^2 + k"
"""


def drawn(rng):
    """Return a refinement with about half of what it may have."""
    given = {
        "more": {"": tuple(np.sort(rng.random(3)).tolist()), "storm": (0.25,)},
        "anchor": tuple(rng.normal(size=4).tolist()),
        "tolerance": float(10.0 ** rng.uniform(-8, -2)),
        "tighter": int(rng.integers(1, 5)),
        "scheme": str(rng.choice(["radau", "trapezoid", "simulation"])),
        "grids": {"": (0.0, 0.3, 1.0)},
        "pieces": int(rng.integers(1, 9)),
        "steps": int(rng.integers(1, 99)),
        "scatter": ScatterPlan(scenarios=int(rng.integers(1, 999)), seed=3, part=2, shifts={"chance(a)": 0.25}),
        "scales": {"p": 1.1},
    }
    return Refinement(**{name: value for name, value in given.items() if rng.random() < 0.5})


class Refinements(unittest.TestCase):
    def test_they_are_themselves_after_a_record(self):
        rng = np.random.default_rng(3)
        seen = set()
        for _ in range(60):
            own = drawn(rng)
            told = json.loads(json.dumps(own.to_dict()))
            self.assertEqual(Refinement.from_dict(told), own)
            self.assertEqual(bool(own), own != Refinement())
            seen |= set(told)
            self.assertTrue(set(told) <= {field.name for field in dataclasses.fields(Refinement)})
        self.assertEqual(seen, {field.name for field in dataclasses.fields(Refinement)})
        self.assertEqual(Refinement().to_dict(), {})
        self.assertFalse(Refinement())

    def test_moments_are_gathered_without_repeats_and_in_order(self):
        own = Refinement(more={"": (0.5, 0.25)}, anchor=(1.0,), steps=7)
        found = own.with_more({"": (0.75, 0.25), "storm": (0.1,), "calm": ()}, (2.0,))
        self.assertEqual(found.more, {"": (0.25, 0.5, 0.75), "storm": (0.1,)})
        self.assertEqual((found.anchor, found.steps), ((2.0,), 7))
        self.assertEqual(own.more, {"": (0.5, 0.25)})
        problem = loads(FLOW, refinement=Refinement(more={"": (0.3, 0.9)}))
        np.testing.assert_allclose(problem.template.built_axes[0].taus, [0, 0.25, 0.3, 0.5, 0.75, 0.9, 1.0])
        self.assertEqual(len(loads(FLOW, refinement=Refinement(steps=10)).template.built_axes[0].taus), 11)

    def test_what_has_no_meaning_is_refused_by_its_name(self):
        still = "[variables]\nx = { start = 1 }\n[minimize]\nf = 'x^2'\n"
        own_moments = "[parameters]\nmoments = [0, 1, 2]\n" + FLOW.replace("to = 2\nsteps = 4", 'at = "moments"')
        for text, refinement, told in (
            (still, Refinement(scheme="radau"), "--scheme is for problems over time"),
            (still, Refinement(tolerance=1e-3), "--time-tolerance is for problems over time"),
            (still, Refinement(steps=4), "--steps is for problems over time"),
            (FLOW, Refinement(tolerance=0.5), "--time-tolerance must lie between"),
            (own_moments, Refinement(steps=4), '"at" in [time]'),
        ):
            with self.subTest(told=told), self.assertRaises(RequestError) as caught:
                loads(text, refinement=refinement)
            self.assertIn(told, str(caught.exception))
        for scheme in ("radau", "gauss-legendre", "simulation"):
            self.assertEqual(checked_scheme(scheme), scheme)
        self.assertEqual(checked_scheme(None), "")
        with self.assertRaises(RequestError) as caught:
            checked_scheme("rada")
        self.assertEqual(caught.exception.advice, 'did you mean "radau"?')
        self.assertEqual([checked_steps("--steps", given) for given in (None, "12", 3)], [0, 12, 3])
        for given in ("0", "-1", "1.5", "x", 10**9):
            self.assertRaises(RequestError, checked_steps, "--steps", given)


class Wishes(unittest.TestCase):
    def test_settings_are_themselves_after_a_record(self):
        rng = np.random.default_rng(4)
        for _ in range(40):
            given = {
                "method": "sqp", "options": {"memory": 5, "exact": True}, "tolerance": 1e-7, "feasibility": 1e-5,
                "target": -3.5, "evaluations": 77, "iterations": 9, "seconds": 2.5, "seed": 11, "scaling": False,
                "derivatives": "differences", "label": "own", "patience": 30, "second_look": 0.5, "fresh": True,
                "points": 12, "reference_point": {"a": 1.0, "b": -2.0}, "ends_first": True,
            }  # fmt: skip
            chosen = {name: value for name, value in given.items() if name == "method" or rng.random() < 0.5}
            own = Settings(**chosen)
            told = json.loads(json.dumps(own.to_dict()))
            for name, value in chosen.items():
                self.assertEqual(told[name], value)
            self.assertEqual(own.of_many().look_scale, chosen.get("second_look", 0.0))
        self.assertEqual(Settings(method="automatic").look_scale, 1.0)
        self.assertEqual(Settings(method="automatic").of_many().look_scale, 0.0)

    def test_numbers_without_meaning_are_refused_by_their_names(self):
        for name, value in (
            ("tolerance", 0.0), ("tolerance", 1.0), ("feasibility", -1e-6), ("evaluations", 0), ("iterations", -3),
            ("patience", 0), ("points", 0), ("seconds", 0.0), ("seconds", float("inf")), ("target", float("nan")),
            ("second_look", -0.1), ("second_look", 1e9), ("seed", -1),
        ):  # fmt: skip
            with self.subTest(name=name, value=value), self.assertRaises(RequestError) as caught:
                Settings(method="sqp", **{name: value})
            self.assertIn(f"--{name.replace('_', '-')}", str(caught.exception))
        self.assertRaises(RequestError, Settings, method="sqp", derivatives="guessed")


if __name__ == "__main__":
    unittest.main()
