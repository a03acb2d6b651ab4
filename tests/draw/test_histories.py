"""The histories of a report's page: what is given to the script, and the script's own arithmetic where Node.js is."""

from __future__ import annotations

import json
import math
import re
import shutil
import subprocess
import unittest
from importlib.resources import files
from pathlib import Path

import numpy as np

from ilvren.draw.report.page import _points
from tests.test_cli import InAFolder

SCRIPT = files("ilvren.draw").joinpath("report", "histories.js").read_text(encoding="utf-8")
NODE = shutil.which("node")

PROBLEM = """title = "Wall </script><script>alert(1)</script>"
[variables]
x = { lower = 0.1, upper = 9.0, start = 4.0 }
y = { lower = 0.1, upper = 9.0, start = 0.2 }
[minimize]
cost = "x^2 + 3*y^2 + 1/(x*y)"
[constraints]
enough = "x*y >= 2"
"""


class PageTest(InAFolder):
    def test_page_stands_alone_and_is_small(self) -> None:
        Path("wall.toml").write_text(PROBLEM, encoding="utf-8")
        for method in ("sqp", "cma-es", "nelder-mead"):
            self.call("run", "wall.toml", "--method", method, "--evaluations", "200", "--quiet", status=None)
        self.call("report", "r1", "r2", "r3", "--output", "page.html")
        page = Path("page.html").read_text(encoding="utf-8")
        self.assertLess(len(page), 300_000)
        # Nothing is fetched: no address but the names of the two languages drawn in.
        fetched = set(re.findall(r"https?://[^\"'\s]*", page)) - {
            "http://www.w3.org/2000/svg",
            "http://www.w3.org/1998/Math/MathML",
        }
        self.assertEqual(fetched, set())
        self.assertNotIn("alert(1)</script>", page)
        given = re.search(r"^histories\(document.getElementById\(\"histories\"\), (.*)\);$", page, re.MULTILINE)
        assert given is not None
        figure = json.loads(given.group(1).replace("<\\/", "</"))
        self.assertEqual([panel["title"] for panel in figure["panels"]], ["gap of cost", "violation", "stationarity"])
        gaps = [line for line in figure["lines"] if line["panel"] == 0]
        self.assertEqual([line["run"] for line in gaps], [0, 1, 2])
        for line in figure["lines"]:
            self.assertEqual(line["x"], sorted(line["x"]))
            self.assertTrue(all(value > 0 and math.isfinite(value) for value in line["y"]))
        # A best design so far is never worse than before, and one of the three is the best known.
        for line in gaps:
            self.assertEqual(line["y"], sorted(line["y"], reverse=True))
        self.assertEqual(min(line["y"][-1] for line in gaps), figure["panels"][0]["floor"])

    def test_thinned_lines_keep_peaks_and_ends(self) -> None:
        x = np.arange(100_000.0)
        y = 1.0 + np.sin(x / 50.0)
        y[73_123], y[41_007], y[5] = 1e6, 1e-9, np.nan
        shown_x, shown_y = _points(x, y, 400)
        self.assertLessEqual(len(shown_x), 402)
        self.assertEqual((shown_x[0], shown_x[-1]), (0.0, 99_999.0))
        self.assertEqual((max(shown_y), min(shown_y)), (1e6, 1e-9))

    def test_steps_keep_every_change(self) -> None:
        y = np.repeat([5.0, 3.0, 2.5], [400, 1, 599])
        self.assertEqual(
            _points(np.arange(1000.0), y, 60, steps=True), ([0.0, 400.0, 401.0, 999.0], [5.0, 3.0, 2.5, 2.5])
        )


@unittest.skipUnless(NODE, "needs Node.js")
class ScriptTest(unittest.TestCase):
    def told(self, expression: str) -> object:
        done = subprocess.run(
            [str(NODE), "-e", f"{SCRIPT}\nconsole.log(JSON.stringify({expression}))"],
            capture_output=True,
            text=True,
            check=True,
            timeout=30,
        )
        return json.loads(done.stdout)

    def test_ticks_stand_inside_and_are_few(self) -> None:
        ends = [(0.0, 7.0), (1.0, 1.0001), (1.0, 23.0), (3.7, 1e6), (0.0, 12_345.0)]
        all_ticks = self.told(f"{json.dumps(ends)}.map(([low, high]) => linearTicks(low, high, 8))")
        assert isinstance(all_ticks, list)
        for (low, high), ticks in zip(ends, all_ticks, strict=True):
            self.assertLessEqual(len(ticks), 10)
            self.assertTrue(all(low - 1e-6 <= tick <= high + 1e-6 and tick == round(tick) for tick in ticks), ticks)
        logs = [(-10.2, 0.3), (-1.1, 0.9), (2.31, 2.33), (-300.0, 300.0)]
        all_ticks = self.told(f"{json.dumps(logs)}.map(([low, high]) => logTicks(low, high, 6))")
        assert isinstance(all_ticks, list)
        for (low, high), ticks in zip(logs, all_ticks, strict=True):
            self.assertTrue(2 <= len(ticks) <= 8, ticks)
            self.assertTrue(all(low - 1e-6 <= tick <= high + 1e-6 for tick in ticks), ticks)

    def test_values_are_those_in_force_at_a_place(self) -> None:
        steps = "{steps: true, x: [1, 4, 9], y: [3, 2, 1]}"
        lines = "{steps: false, x: [1, 4, 9], y: [3, 2, 1]}"
        self.assertEqual(self.told(f"[0, 1, 3.9, 4, 99].map(x => placeAt({steps}, x))"), [-1, 0, 0, 1, 2])
        self.assertEqual(self.told(f"[0, 1, 3.9, 6, 8, 99].map(x => placeAt({lines}, x))"), [0, 0, 1, 1, 2, 2])

    def test_numbers_and_heights(self) -> None:
        self.assertEqual(
            self.told("[0, 12345.678, 1.5e-7, -3e8, 0.25].map(x => told(x, 4))"),
            ["0", "12350", "1.5·10⁻⁷", "-3·10⁸", "0.25"],
        )
        # Only what stands between the two places counts; zeros have no logarithm.
        span = self.told("heights([{steps: false, x: [1, 2, 3, 9], y: [1e5, 1e-2, 1e-4, 0]}], 2, 3)")
        assert isinstance(span, list)
        self.assertTrue(-4.5 < span[0] < -4.0 and -2.0 < span[1] < -1.5, span)
        self.assertIsNone(self.told("heights([{steps: false, x: [1], y: [0]}], 0, 2)"))


if __name__ == "__main__":
    unittest.main()
