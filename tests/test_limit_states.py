"""How limits stand at a design, told of arrays: against a plain look at every element alone, in words and in documents."""

import json
import math
import unittest

import numpy as np

from ilvren import loads
from ilvren.evaluate import Gate
from ilvren.problem import Measures
from ilvren.runs import limit_states
from ilvren.runs.limits import by_block, nested, plain, plain_values, told_by_block

TEXT = """
[variables]
a = { start = 1.0, lower = 0.0, upper = 4.0, unit = "m" }
m = { start = 0.5, shape = [2, 3], lower = -1.0, upper = 1.0 }
wood = { start = "oak", choices = ["ash", "oak", "larch"] }
free = { start = [0.0, 7.0] }
[minimize]
f = "a + sum(m^2) + sum(free^2)"
[constraints]
one = { formula = "a * 2 <= 3", unit = "m" }
band = "-1 <= m - a <= 0.25"
tied = "free[0] == 0.5"
deep = "sqrt(m) >= 0.1"
"""


class States(unittest.TestCase):
    def setUp(self):
        self.problem = loads(TEXT)
        self.rng = np.random.default_rng(6)

    def at(self, point):
        gate = Gate(self.problem)
        evaluation = gate.evaluate(point)
        measures = Measures.of(self.problem)
        return limit_states(self.problem, measures, np.asarray(point, dtype=float), evaluation, None, feasibility=1e-6)

    def points(self):
        """Yield designs: inside, at limits, beyond them, with values that are none."""
        start = np.array(self.problem.start)
        yield start
        for _ in range(12):
            moved = start + self.rng.choice([-1.5, -0.5, 0.0, 0.5, 1.0, 3.0], size=len(start))
            moved[7] = 1.0
            yield moved

    def test_each_state_is_what_its_own_numbers_say(self):
        for point in self.points():
            for states in self.at(point):
                self.assertEqual(len(states), sum(block.size for block in states.blocks))
                for k, state in enumerate(states):
                    self.assertEqual(repr(state), repr(states[k]))
                    margin = min(state.value - state.lower, state.upper - state.value)
                    if math.isnan(state.value):
                        self.assertTrue(math.isnan(state.margin))
                        self.assertEqual((state.violation, state.word(1e-6)), (math.inf, "invalid: no finite value"))
                        continue
                    self.assertEqual(state.margin, margin)
                    self.assertEqual(state.violation, max(-margin, 0.0) / state.size)
                    np.testing.assert_array_equal([states.margin[k], states.violation[k]], [margin, state.violation])
                    self.assertEqual(state.is_active, bool(state.side))
                self.assertEqual(repr(states[-1]), repr(states[len(states) - 1]))
                self.assertEqual(repr(states[2:5]), repr(tuple(states[k] for k in (2, 3, 4))))
                self.assertRaises(IndexError, lambda states=states: states[len(states)])

    def test_words(self):
        point = np.array(self.problem.start)
        point[0] = 1.5  # one: at its limit; band: below m − a = −1
        bounds, rows = self.at(point)
        words = {state.name: state.word(1e-6) for state in rows}
        self.assertEqual(words["one"], "active: upper limit")
        self.assertEqual(words["band[0,0]"], "active: lower limit")
        self.assertEqual(words["tied"], "missed")
        self.assertEqual(words["deep[1,2]"], "")
        self.assertEqual({state.word(1e-6) for state in bounds}, {""})
        point[:2] = 4.0, -2.0
        bounds, rows = self.at(point)
        words = {state.name: state.word(1e-6) for state in (*bounds, *rows)}
        self.assertEqual(words["a"], "active: upper limit")
        self.assertEqual(words["m[0,0]"], "missed: lower limit")
        self.assertEqual(words["one"], "missed: upper limit")
        self.assertEqual(words["deep[0,0]"], "invalid: no finite value")
        self.assertEqual(words["wood"], "")
        point[8] = 0.5
        self.assertEqual({s.name: s.word(1e-6) for s in self.at(point)[1]}["tied"], "met")

    def test_what_misses_and_what_is_worst_are_those_of_a_sorted_list(self):
        for point in self.points():
            for states in self.at(point):
                every = list(states)
                missed = [state for state in every if state.violation > 1e-6]
                self.assertEqual(repr(list(states.missed(1e-6))), repr(missed))

                def rank(place, every=every):
                    state = every[place]
                    sizes = [abs(v) for v in (state.value, state.lower, state.upper) if math.isfinite(v)]
                    room = state.margin / (max(sizes, default=0.0) or 1.0)
                    return -state.violation, -math.inf if math.isnan(room) else room, place

                wanted = sorted(sorted(range(len(every)), key=rank)[:4])
                self.assertEqual(repr(states.worst(4)), repr(tuple(every[k] for k in wanted)))

    def test_a_block_alone_says_the_same(self):
        point = np.array([1.5, 2.0, *[0.5] * 5, 1.0, 0.5, 7.0])
        for states, again in zip(self.at(point), self.at(point), strict=True):
            alone = [state for block in states.blocks for state in states.of_block(block)]
            self.assertEqual(repr(alone), repr(list(states)))  # NaN is not itself
            self.assertTrue(states == again)
            self.assertFalse(states == self.at(point + 0.1)[0])

    def test_documents_say_what_the_states_say(self):
        for point in self.points():
            for states in self.at(point):
                document = json.loads(json.dumps(states.document()))
                self.assertNotIn("wood", document)  # words have no bounds
                for state in states:
                    name, _, place = state.name.rstrip("]").partition("[")
                    if name == "wood":
                        continue
                    entry = document[name]
                    for key, value in state.to_dict().items():
                        own = entry[key]
                        for index in place.split(",") if place else ():
                            own = own[int(index)]
                        self.assertEqual(own, value, (state.name, key))


class Priced(unittest.TestCase):
    def test_prices_are_what_moving_a_limit_changes(self):
        """Of a problem with a known answer: minimize Σ c (x − t)², x ≤ limits; the price is the slope there."""
        from ilvren.runs import run

        text = (
            "[variables]\nx = {{ start = 0, shape = 4, upper = [{0}, 2, 0.5, 9] }}\n[maximize]\nf = "
            "'10 - sum(join(1, 2, 3, 4) * (x - join(1, 1, 1, 1))^2)'\n[constraints]\nlow = '-x[3] <= {1}'\n"
        )
        made = run(loads(text.format(0.25, -2.0)))
        prices = {state.name: state.price for state in (*made.bounds.priced(), *made.constraints.priced())}
        step = 1e-4
        for name, other in (("x[0]", (0.25 + step, -2.0)), ("low", (0.25, -2.0 + step))):
            moved = run(loads(text.format(*other)))
            self.assertAlmostEqual(prices[name], (moved.objective - made.objective) / step, delta=2e-3)
        self.assertEqual(set(prices), {"x[0]", "x[2]", "low"})
        self.assertEqual({state.name for state in made.bounds.dearest(1, 0.01)} - {"x[0]", "x[2]"}, set())
        told = made.bounds.priced_document()["x"]["price"]
        self.assertEqual([value is None for value in told], [False, True, False, True])


class Plain(unittest.TestCase):
    def test_numbers_as_documents_write_them(self):
        self.assertEqual([plain(v) for v in (1.5, math.nan, math.inf, -math.inf)], [1.5, None, "inf", "-inf"])
        self.assertEqual(plain_values(np.array([[1.0, np.nan], [np.inf, 2.0]])), [[1.0, None], ["inf", 2.0]])
        self.assertEqual(plain_values(3), 3.0)

    def test_flat_values_as_lists_of_any_depth(self):
        for shape in ((), (3,), (2, 3), (2, 1, 2), (1, 4, 1), (0,), (0, 2)):
            values = np.arange(float(np.prod(shape)))
            self.assertEqual(nested(values.tolist(), shape), values.reshape(shape).tolist())

    def test_values_by_the_names_of_variables(self):
        problem = loads(TEXT)
        values = list(problem.start)
        self.assertEqual(by_block(problem.blocks, values)["m"], [[0.5] * 3] * 2)
        told = told_by_block(problem.blocks, values)
        self.assertEqual((told["wood"], told["free"], told["a"]), ("oak", [0.0, 7.0], 1.0))


if __name__ == "__main__":
    unittest.main()
