"""Functions of what scatters in random problems: against NumPy over the same scenarios, derivatives against differences."""

import unittest

import numpy as np

from ilvren.evaluate import Gate
from ilvren.problem import loads, scatter_of
from ilvren.scatter import scenario_normals

LAWS = (
    'law = "normal", deviation = 0.2',
    'law = "uniform", half_width = 0.3',
    'law = "lognormal", deviation = 0.25',
    'law = "weibull", deviation = 0.3',
    'law = "gumbel", deviation = 0.2',
    'law = "triangular", low = -0.2, high = 0.5',
    'law = "normal", deviation = 0.1, relative = true',
)
FORMULAS = {
    "x * p + q": lambda x, y, p, q: x * p + q,
    "x^2 - p * y": lambda x, y, p, q: x**2 - p * y,
    "max(x, p) + q": lambda x, y, p, q: np.maximum(x, p) + q,
    "sqrt(x + p^2) * y": lambda x, y, p, q: np.sqrt(x + p**2) * y,
    "exp(0.3 * q) - x * y": lambda x, y, p, q: np.exp(0.3 * q) - x * y,
    "abs(p - x) + y * q": lambda x, y, p, q: np.abs(p - x) + y * q,
}
WAYS = {
    "expected({0})": lambda a, b: a.mean(),
    "expected({0}) + 1.5 * deviation({0})": lambda a, b: a.mean() + 1.5 * a.std(ddof=1),
    "quantile({0}, 0.9)": lambda a, b: np.quantile(a, 0.9),
    "worst({0})": lambda a, b: a.max(),
    "quantile({0}, 0.1) + expected({1})": lambda a, b: np.quantile(a, 0.1) + b.mean(),
    "deviation({0}) / expected({1}^2 + 1)": lambda a, b: a.std(ddof=1) / (b**2 + 1.0).mean(),
}
TEXT = """
[variables]
x = {{ start = 1.3, lower = 0.2, upper = 3 }}
y = {{ start = 0.8, lower = 0.2, upper = 3 }}
[parameters]
p = 1.5
q = 2.0
[scatter]
p = {{ {laws[0]} }}
q = {{ {laws[1]} }}
x = {{ {laws[2]} }}
{together}
[minimize]
f = "{objective}"
[constraints]
c = "chance({limited} <= {limit}) >= 0.6"
"""


class AtRandom(unittest.TestCase):
    def test_values_are_those_of_the_scenarios_and_slopes_those_of_the_values(self):
        rng = np.random.default_rng(9)
        for number in range(12):
            laws = rng.choice(LAWS, 3).tolist()
            one, other, limited = rng.choice(list(FORMULAS), 3).tolist()
            way = list(WAYS)[number % len(WAYS)]
            limit = round(float(rng.uniform(1.0, 4.0)), 2)
            text = TEXT.format(
                laws=laws, together='together = [["p", "q", 0.5]]' if number % 2 else "",
                objective=way.format(f"({one})", f"({other})"), limited=limited, limit=limit,
            )  # fmt: skip
            with self.subTest(objective=way.format(one, other), laws=laws):
                problem = loads(text)
                gate, start = Gate(problem), np.array(problem.start)
                here = gate.evaluate(start, derivatives=True)
                slopes = np.vstack([here.gradient, np.asarray(here.jacobian).reshape(-1, 2)])
                for k in range(2):
                    step = np.zeros(2)
                    step[k] = 1e-5
                    ends = [gate.evaluate(start + sign * step) for sign in (1.0, -1.0)]
                    up, down = ([end.objective, *end.rows] for end in ends)
                    seen = np.subtract(up, down) / 2e-5
                    np.testing.assert_allclose(slopes[:, k], seen, rtol=1e-5, atol=1e-6)
                scattered, plan = scatter_of(problem, start), problem.template.declarations.scatter_plan
                own = scenario_normals(scattered.dependence.dimension, plan.count, plan.seed)
                values = scattered.scenarios(own)
                a, b, limiting = (
                    FORMULAS[name](values["x"], 0.8, values["p"], values["q"]) for name in (one, other, limited)
                )
                known = WAYS[way](a, b)
                is_plain = "quantile" not in way and "worst" not in way  # these are smoothed by a part of the deviation
                self.assertAlmostEqual(here.objective, known, delta=1e-9 if is_plain else 0.05 * a.std())
                # a chance that is searched is never above the counted one
                self.assertLessEqual(here.rows[0], (limiting <= limit).mean() + 1e-9)


if __name__ == "__main__":
    unittest.main()
