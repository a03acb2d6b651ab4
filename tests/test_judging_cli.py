"""Contests, comparisons, verifications and reports as a user meets them."""

import csv
import html.parser
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

from tests.compact import WHOLE, only_in_whole, some
from tests.drawing import unpainted
from tests.test_cli import SLOW, InAFolder

FENCE = """title = "Fence & gate"
[variables]
x = { start = 1, lower = 0.1, upper = 10, unit = "m" }
y = { start = 5, lower = 0.1, upper = 10, unit = "m" }
[parameters]
a = { value = 9, unit = "m^2" }
[minimize]
cost = { formula = "2 * (x + y)", unit = "EUR" }
[constraints]
area = { formula = "x * y >= a", unit = "m^2" }
"""
WELLS = """[variables]
x = { start = 0.9, lower = -2, upper = 2 }
y = { start = 0.5, lower = -2, upper = 2 }
[minimize]
f = "(x^2 - 1)^2 + 0.3 * x + y^2"
"""


class Verifying(InAFolder):
    def setUp(self):
        super().setUp()
        Path("fence.toml").write_text(FENCE)
        Path("wells.toml").write_text(WELLS)

    def test_designs_from_anywhere(self):
        out, _ = self.call("verify", "fence.toml", "--at", "x=3", "--at", "y=3")
        self.assertIn("local-strict (holds)", out)
        Path("designs.csv").write_text("variable:x,variable:y,cost\n1,9,20\n3,3,12\n")
        out, err = self.call("verify", "fence.toml", "--at", "designs.csv", "--row", "2", "--json")
        self.assertTrue(json.loads(out)["holds"])
        self.assertIn("not variables, so not used: cost", err)
        found = json.loads(self.call("verify", "fence.toml", "--at", "designs.csv", "--json", status=1)[0])
        self.assertEqual(found["verdict"], "improvable")
        for words, wrong in (
            (("--at", "designs.csv", "--row", "7"), "rows 1 to 2"),
            (("--at", "z=1"), '"z"'),
            (("--row", "2"), "--row needs"),
            (("--at", "missing.csv"), "cannot be read"),
            (("--at", "x=3", "--seconds", "4"), "--prove"),
            (("--at", "x=3", "--makeable", "z=1"), '"z"'),
            (("--at", "x=3", "--reference", "cots=1"), '"cost"'),
            (("--at", "x=3", "--reference", "cost=[1, 2]"), "one number"),
            (("--at", "x=3", "--makeable", "x=[1, 2]"), "one number"),
            (("--at", "x=3", "--random-starts", "2", "--seed", "-1"), "--seed"),
        ):
            with self.subTest(words=words):
                self.assertIn(wrong, self.call("verify", "fence.toml", *words, status=2)[1])

    def test_worth_proof_and_reference(self):
        self.call("run", "fence.toml", "--quiet")
        words = ("verify", "last", "--worth", "--makeable", "x=0.8", "--prove", "--random-starts", "3")
        out, _ = self.call(*words, "--method", "interior-point", "--reference", "cost=12")
        for word in (
            "global-proved (holds)",
            "relaxing area's lower limit",
            "makeable",
            "no room",
            "in a new process",
            "finds the same design",
        ):
            self.assertIn(word, out)
        document = json.loads(self.call(*words, "--json")[0])
        self.assertTrue(document["proof"]["complete"])
        self.assertAlmostEqual(document["proof"]["bound"], 12.0, delta=3e-5)
        self.assertAlmostEqual(document["worth"]["limits"][0]["price"], 2.0 / 3.0, places=4)
        self.assertEqual(document["makeable"]["spacings"], {"x": 0.8})
        self.assertIn("off its reference", self.call("verify", "last", "--reference", "cost=11", status=1)[0])

    def test_a_better_design_becomes_a_run(self):
        self.call("run", "wells.toml", "--method", "bfgs", "--quiet")
        self.assertIn("local-strict", self.call("verify", "last")[0])
        out, _ = self.call("verify", "r1", "--random-starts", "8", status=1)
        self.assertIn("It is recorded as r2", out)
        document = json.loads(self.call("verify", "r2", "--prove", "--json")[0])
        self.assertEqual((document["run"], document["verdict"]), ("r2", "global-proved"))

    def test_curves_beside_a_reference(self):
        Path("curve.toml").write_text(
            "[variables]\nh = { start = 0.5, shape = 9 }\n[parameters]\nt = 'evenly(0, 1, 9)'\n"
            "[minimize]\nmiss = 'sum((h - t^2)^2) + 1'\n"
        )
        Path("exact.csv").write_text("t,h\n" + "\n".join(f"{k / 8},{(k / 8) ** 2}" for k in range(9)) + "\n")
        self.call("run", "curve.toml", "--quiet")
        words = ("verify", "last", "--reference-file", "exact.csv", "--output", "curves.svg")
        self.assertIn("h agrees with the reference (9 points", self.call(*words)[0])
        self.assertIn("largest deviation", Path("curves.svg").read_text())


class Contesting(InAFolder):
    def setUp(self):
        super().setUp()
        Path("fence.toml").write_text(FENCE)
        Path("wells.toml").write_text(WELLS)

    def test_one_problem_from_plan_to_export(self):
        words = ("contest", "wells.toml", "--method", "bfgs", "--method", "nelder-mead", "--random-starts", "4")
        out, _ = self.call(*words, "--workers", "1", "--label", "two", "--output", "h.svg")
        self.assertIn("g1  8 runs on wells.toml", out)
        self.assertIn("against", out)
        self.assertIn("solved below", Path("h.svg").read_text())
        for kind in some(("designs", "paths", "basins"), 2, 1):
            self.call("compare", "two", "--output", f"{kind}.svg", "--figure", kind)
            self.assertGreater(Path(f"{kind}.svg").stat().st_size, 5000)
        self.assertIn("--figure", self.call("compare", "two", "--output", "p.svg", "--figure", "profiles", status=2)[1])
        document = json.loads(self.call("compare", "g1", "--json", "--within", "1e-2")[0])
        self.assertEqual([item["runs"] for item in document["methods"]], [4, 4])
        self.assertEqual(set(document["methods"][0]["arrivals"]), {"1e-2"})
        self.call("export", "g1", "--output", "runs.csv")
        with Path("runs.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual([row["start"] for row in rows], ["0", "1", "2", "3"] * 2)
        out, _ = self.call("runs", "--full")
        self.assertIn("bfgs, nelder-mead on wells.toml", out)
        out, err = self.call("verify", "g1")
        self.assertIn("verified afresh", out)
        self.assertIn("g1 is a group: its best run, r", err)
        self.assertIn("best f: ", self.call("compare", "g1", "r1")[0])
        self.assertIn("nothing to continue", self.call("resume", "g1", status=2)[1])

    def test_several_problems_give_profiles(self):
        unpainted(self)
        words = ("contest", "wells.toml", "fence.toml", "--method", "sqp", "--method", "nelder-mead")
        self.call(*words, "--random-starts", "2", "--workers", "1", "--output", "p.svg", status=0)
        self.assertIn("data profile", Path("p.svg").read_text())
        for more, wrong in (
            (("--figure", "profile", "--output", "p.svg"), 'Did you mean "profiles"'),
            (("--method", "sqp"), "named twice"),
            (("--along", "second"), '"seconds"'),
            (("--repeats", "0"), "repeat"),
            (("--solved-within", "0"), "--solved-within"),
            (("--gradient-worth", "-1"), "--gradient-worth"),
            (("--reference", "f=1"), "one problem"),
        ):
            self.assertIn(wrong, self.call(*words, *more, status=2)[1])
        self.assertEqual(len(json.loads(self.call("runs", "--json")[0])["groups"]), 1)  # nothing was begun
        self.assertIn("several problems", self.call("report", "g1", "--output", "r.html", status=2)[1])

    def test_figures_show_what_there_is_and_refuse_the_rest(self):
        unpainted(self)
        Path("three.toml").write_text(
            "[variables]\nx = { start = 1 }\ny = { start = 1 }\nz = { start = 2 }\n"
            "[minimize]\nf = 'x^2 + (y - 1)^2 + (z - x)^2'\n[constraints]\nc = 'x + y + z >= 1'\n"
        )
        words = ("contest", "three.toml", "--method", "sqp", "--method", "nelder-mead", "--evaluations", "200")
        self.call(*words, "--workers", "1", "--quiet", status=None)
        for kind in ("paths", "basins"):
            err = self.call("compare", "g1", "--figure", kind, "--output", "f.svg", status=2)[1]
            self.assertIn("two free variables, this one has 3", err)
        self.call("compare", "g1", "--figure", "designs", "--output", "designs.svg")
        text = Path("designs.svg").read_text()
        for word in ("sqp", "nelder-mead", "least of"):
            self.assertIn(word, text)
        if WHOLE:
            self.call("compare", "g1", "--output", "h.svg", "--along", "seconds")
            self.assertIn("least violation so far", Path("h.svg").read_text())
        # Nothing is ever missed without constraints: then there is no violation to show.
        self.call("contest", "wells.toml", "--method", "sqp", "--workers", "1", "--output", "w.svg", "--quiet")
        self.assertNotIn("violation", Path("w.svg").read_text())

    def test_the_list_of_runs_sums_contests_up(self):
        self.call("run", "wells.toml", "--quiet", "--label", "alone")
        self.call("contest", "wells.toml", "--method", "sqp", "--random-starts", "3", "--workers", "1", "--quiet")
        out, _ = self.call("runs")
        self.assertIn("alone", out)
        self.assertNotIn("r3", out)
        self.assertIn("4 runs in ilvren.ledger, 3 of them in groups", out)
        self.assertIn("r3", self.call("runs", "--full")[0])
        document = json.loads(self.call("runs", "--json")[0])
        self.assertEqual([run["group"] for run in document["runs"]], [None, "g1", "g1", "g1"])
        self.assertEqual(document["groups"][0]["runs"], ["r2", "r3", "r4"])

    def test_runs_beside_groups_and_two_groups(self):
        self.call("contest", "wells.toml", "--method", "bfgs", "--random-starts", "2", "--workers", "1", "--quiet")
        self.call(
            "contest",
            "wells.toml",
            "--method",
            "bfgs",
            "--random-starts",
            "2",
            "--workers",
            "1",
            "--quiet",
            "--no-color",
        )
        self.call("run", "wells.toml", "--quiet", "--label", "mine")
        document = json.loads(self.call("compare", "g1", "g2", "mine", "--json")[0])
        self.assertEqual([item["method"] for item in document["methods"]], ["g1 bfgs", "g2 bfgs", "r5 (mine)"])
        self.assertEqual(document["pairs"][0]["differ"], 0)
        self.assertIn("named twice", self.call("compare", "g1", "g1", status=2)[1])

    @only_in_whole
    def test_an_interrupted_contest_goes_on(self):
        Path("slow.toml").write_text(SLOW)
        words = ["contest", "slow.toml", "--method", "nelder-mead", "--random-starts", "3", "--evaluations", "400"]
        process = subprocess.Popen(
            [sys.executable, "-m", "ilvren", *words, "--workers", "2"],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            time.sleep(0.1)
            if Path("ilvren.ledger").exists() and "exhausted" in self.call("runs", "--full")[0]:
                break
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130, err)
        self.assertIn(b"`ilvren resume g1` goes on", err)
        out, _ = self.call("resume", "g1", "--workers", "1", status=1)
        self.assertIn("3 runs on slow.toml", out)
        self.assertNotIn("missing", out)
        counts = {r["counts"]["evaluations"] for r in json.loads(self.call("runs", "--json")[0])["runs"]}
        self.assertEqual(counts, {400})


class Page(html.parser.HTMLParser):
    """The tags of a page, its links, and whether each that was opened was closed."""

    VOID = ("meta", "input", "br", "img", "link")

    def __init__(self, text):
        super().__init__()
        self.tags, self.open, self.links, self.ids = [], [], [], set()
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append(tag)
        facts = dict(attrs)
        self.links += [facts[key] for key in ("src", "href") if key in facts]
        self.ids.add(facts.get("id"))
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_endtag(self, tag):
        assert self.open and self.open.pop() == tag, tag


class Reporting(InAFolder):
    def setUp(self):
        super().setUp()
        unpainted(self)
        Path("fence.toml").write_text(FENCE)
        self.call("run", "fence.toml", "--quiet", "--label", "first")
        self.call("run", "fence.toml", "--method", "nelder-mead", "--set", "a=8", "--quiet")

    @only_in_whole
    def test_one_page_that_needs_nothing_else(self):
        self.call("report", "first", "r2", "--output", "out.html")
        text = Path("out.html").read_text()
        own = re.sub(r"<script>.*?</script>", "", text, flags=re.S)
        page = Page(own)
        self.assertEqual(page.open, [])
        self.assertEqual([link for link in page.links if not link.startswith("#")], [])
        self.assertLessEqual({link[1:] for link in page.links}, page.ids)
        for word in (
            "Fence &amp; gate",
            "<math",
            "local-strict (holds)",
            "--set a=8",
            "version: numpy",
            "@media print",
        ):
            self.assertIn(word, own)

    @only_in_whole
    def test_a_text_version(self):
        self.call("report", "first", "r2", "--output", "out.md")
        text = Path("out.md").read_text()
        for word in (
            "# Fence & gate",
            "minimize  cost = 2 * (x + y)",
            "| area | lower |",
            "ilvren run fence.toml",
            "```",
        ):
            self.assertIn(word, text)
        self.assertIn(".html, .md", self.call("report", "first", "--output", "out.pdf", status=2)[1])

    def test_a_group_tells_its_methods(self):
        words = (
            "contest",
            "fence.toml",
            "--method",
            "sqp",
            "--method",
            "augmented-lagrangian",
            "--workers",
            "1",
            "--quiet",
        )
        self.call(*words)
        self.call("report", "g1", "--output", "group.md")
        self.assertIn("Methods of the contest", Path("group.md").read_text())

    def test_in_a_real_browser(self):
        browser = next(filter(None, map(shutil.which, ("chromium", "chromium-browser", "google-chrome"))), None)
        if browser is None:
            self.skipTest("no Chromium is installed: the page was not opened in a browser")
        self.call("report", "first", "r2", "--output", "out.html")
        page = Path("out.html").resolve()
        text = page.read_text()
        # What a user would do, from the keyboard's elements: hide the first run, zoom in, see all again.
        script = """<script>window.addEventListener("load", () => setTimeout(() => {
            const drawn = () => document.querySelectorAll("#histories g path").length;
            document.body.dataset.both = drawn();
            document.querySelector("[data-run]").click();
            document.querySelector("[data-zoom]").click();
            document.body.dataset.one = drawn();
        }, 500));</script></body>"""
        page.write_text(text.replace("</body>", script))
        found = subprocess.run(
            [
                browser, "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=6000",
                f"--user-data-dir={self.folder / 'profile'}", "--dump-dom", page.as_uri(),
            ],
            capture_output=True, text=True, timeout=120, check=False, env={**os.environ, "HOME": str(self.folder)},
        )  # fmt: skip
        both, one = (re.search(rf'data-{key}="(\d+)"', found.stdout) for key in ("both", "one"))
        self.assertIsNotNone(one, found.stderr[-500:])
        # Gap and violation of nelder-mead; of sqp the stationarity too.
        self.assertEqual((int(both[1]), int(one[1])), (5, 2))
        self.assertNotIn("data-error", found.stdout)


if __name__ == "__main__":
    unittest.main()
