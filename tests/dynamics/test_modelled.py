"""Rates and jumps that call models against the same written as formulas: values, first and second derivatives."""

import unittest
from pathlib import Path

import numpy as np

from ilvren import load
from ilvren.evaluate import Gate
from tests.test_cli import InAFolder

MODELS = """
def drag(v, c):
    return {"force": c * v * v + 0.1 * v**3}

def flow(w, k):
    return {"out": [k * w[1] - w[0] ** 2, w[0] * w[1]]}

def next_hold(h, x):
    return {"to": h + 0.5 * (1 - x) ** 2 * h + 0.3 * (1 - x)}
"""
TEXT = """
[variables]
k = {{ start = 0.8, lower = 0.1, upper = 3 }}
c = {{ start = 0.4, lower = 0, upper = 2 }}
{models}[time]
to = 1.1
steps = 4
[states]
{states}
[minimize]
f = "{cost}"
"""
SWING = """x = {{ rate = "v", initial = 0 }}
v = {{ rate = "k * (1 - x) - ({0})", initial = "0.3 * c" }}"""
HELD = """x = {{ rate = "k * h - c * x", initial = 0.1 }}
h = {{ every = 0.5, next = "{0}", initial = 0.3 }}"""
# Name → (model, its inputs, its outputs, states with a place for what it gives, the formula, what is minimized).
KINDS = {
    "a rate": ("drag", 'v = "v", c = "c"', '["force"]', SWING, "c * v^2 + 0.1 * v^3", "integral((x - 1)^2) + last(v)"),
    "a rate of a vector": (
        "flow", 'w = "w", k = "k"', "{ out = { shape = 2 } }", 'w = {{ rate = "{0} - c * w", initial = [0.5, 0.2] }}',
        "join(k * w[1] - w[0]^2, w[0] * w[1])", "integral(dot(w, w)) + last(w[0])",
    ),
    "a rate of what was": (
        "drag", 'v = "delayed(x, 0.45)", c = "c"', '["force"]',
        'x = {{ rate = "k - ({0}) - 0.2 * x", initial = 0.1 }}',
        "c * delayed(x, 0.45)^2 + 0.1 * delayed(x, 0.45)^3", "integral((x - 1)^2) + last(x)",
    ),
    "a jump": (
        "next_hold", 'h = "h", x = "x"', '["to"]', HELD, "h + 0.5 * (1 - x)^2 * h + 0.3 * (1 - x)",
        "integral((x - 1)^2) + last(h)",
    ),
    "a jump by what was": (
        "next_hold", 'h = "h", x = "delayed(x, 0.2)"', '["to"]', HELD,
        "h + 0.5 * (1 - delayed(x, 0.2))^2 * h + 0.3 * (1 - delayed(x, 0.2))", "integral((x - 1)^2) + last(h)",
    ),
}  # fmt: skip


class Modelled(InAFolder):
    def answered(self, text):
        Path("p.toml").write_text(text)
        problem = load("p.toml")
        gate, start = Gate(problem), np.array(problem.start)
        here = gate.evaluate(start, derivatives=True)
        return here.objective, here.gradient, gate.written.hessian(start).toarray()

    def test_a_model_says_what_its_formula_says(self):
        Path("models.py").write_text(MODELS)
        for name, (model, inputs, outputs, states, formula, cost) in KINDS.items():
            with self.subTest(kind=name):
                declared = f'[models.{model}]\npython = "models.py:{model}"\ninputs = {{ {inputs} }}\n'
                output = "out" if "out" in outputs else outputs.strip('[]"')
                called = TEXT.format(
                    models=f"{declared}outputs = {outputs}\n", states=states.format(f"{model}.{output}"), cost=cost
                )
                written = TEXT.format(models="", states=states.format(formula), cost=cost)
                value, gradient, hessian = self.answered(called)
                known, known_gradient, known_hessian = self.answered(written)
                self.assertAlmostEqual(value, known, places=12)
                np.testing.assert_allclose(gradient, known_gradient, rtol=1e-11, atol=1e-12)
                np.testing.assert_allclose(hessian, known_hessian, rtol=1e-7, atol=1e-8)


if __name__ == "__main__":
    unittest.main()
