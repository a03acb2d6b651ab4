"""Figures: the common size, what must be named in them, and shading where limits are missed and only there."""

import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace

import numpy as np

from ilvren import compare, loads, run
from ilvren.draw.histories import draw_histories
from ilvren.draw.landscape import _label_spot, _levels, _missed, _short, _view, draw_contours, draw_curve
from ilvren.judge.track import track_of_result
from tests.problems import two_variables

TEXT = two_variables("(x - 1)^2 + y^2", "x + y <= 0.9", "x - y == 0.5", start=(0.5, 0.5))


class Figures(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def drawn(self, draw, *arguments):
        """Return the text of the figure as SVG."""
        path = self.folder / "figure.svg"
        draw(*arguments, str(path))
        return path.read_text()

    def test_histories_name_every_run_and_what_was_not_measured(self):
        runs = [run(loads(TEXT), method=name) for name in ("sqp", "nelder-mead")]
        text = self.drawn(draw_histories, compare(*runs))
        for word in (
            "sqp: converged",
            "nelder-mead: settled",
            "not measured: nelder-mead",
            "evaluations",
            "feasible below",
        ):
            self.assertIn(word, text)

    def test_histories_of_nothing_feasible(self):
        hopeless = run(loads(two_variables("x", "x^2 <= -1")), method="sqp")
        self.assertIn("no run found a feasible design", self.drawn(draw_histories, compare(hopeless)))

    def test_contours_name_limits_paths_and_held_variables(self):
        problem = loads(TEXT + "\n")
        result = run(problem, method="sqp")
        text = self.drawn(draw_contours, problem, ("x", "y"), np.array(result.point), [track_of_result(result)])
        for word in ("c0 = 0.9", "c0 missed", "c1 met", "start", "its design"):
            self.assertIn(word, text)
        three = loads(
            '[variables]\nx = 1.0\ny = 2.0\nz = { start = 3, unit = "m" }\n[minimize]\nf = "log(x - 0.9) * y + z"\n'
        )
        text = self.drawn(draw_contours, three, ("x", "y"), np.array(three.start), [])
        self.assertIn("z = 3 m", text)
        self.assertIn("no finite value", text)  # log of what is left of 0

    def test_curve(self):
        problem = loads(
            '[variables]\nx = { start = 1, lower = 0, upper = 4 }\n[minimize]\nf = "sin(3 * x)"\n[constraints]\nc = "x^2 <= 9"\n'
        )
        text = self.drawn(draw_curve, problem, "x", np.array([1.0]), [track_of_result(run(problem, method="sqp"))])
        for word in ("c missed", "start", "its design"):
            self.assertIn(word, text)

    def test_only_what_is_missed_is_shaded(self):
        row = loads(two_variables("x", "x + y <= 2")).rows[0]
        values = np.array([1.0, 2.0, 2.0 + 1e-9, 2.1, np.nan])
        self.assertEqual(_missed(values, row, 2.0).tolist(), [False, False, False, True, True])

    def test_views_show_bounds_starts_and_paths(self):
        problem = loads(
            '[variables]\nx = { start = 1, lower = 0, upper = 4 }\ny = 2.0\nz = 0.0\n[minimize]\nf = "x + y + z"\n'
        )
        point = np.array([1.0, 9.0, 0.0])
        for name, inside in (("x", (0.0, 4.0)), ("y", (2.0, 9.0)), ("z", (0.0,))):
            view = _view(problem, name, point, [])
            for value in inside:
                self.assertTrue(view.low < value < view.high)

    def test_labels_keep_inside_and_away_from_marks(self):
        def contour(height):
            return SimpleNamespace(allsegs=[[np.column_stack([np.linspace(0, 10, 101), np.full(101, height)])]])

        sides, taken = np.array([0.0, 10.0]), [np.array([0.2, 0.5])]
        x, y = _label_spot(contour(5.0), sides, sides, taken)
        self.assertTrue(8.0 < x < 9.0 and y == 5.0)
        self.assertEqual(len(taken), 2)
        self.assertIsNone(_label_spot(contour(0.1), sides, sides, taken))

    def test_levels_show_a_valley(self):
        valley = np.concatenate([np.linspace(0, 1, 900), np.linspace(1, 1e6, 100)])
        self.assertGreater((_levels(valley) < 1.0).sum(), 8)
        self.assertEqual(_short(147000.0, 40000.0), "147000")
        self.assertEqual(float(_short(0.25, 1.0)), 0.25)
