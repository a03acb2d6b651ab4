"""A design written into its problem file: it is the file's baseline then, and nothing else of the file has changed."""

import io
import json
import re
import unittest
from pathlib import Path

import numpy as np

from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.ledger import Ledger
from ilvren.problem import load
from tests.compact import some
from tests.kinds_of_problems import KINDS, MIXED, alone
from tests.test_cli import InAFolder

# Designs are chosen at every moment there, or take their time.
LEFT_OUT = ("control", "program", "scattering front")
COMMENTED = "# by hand\n"


class Applied(InAFolder):
    def test_starts_of_every_kind(self):
        for kind in some(KINDS | MIXED, 6):
            if kind in LEFT_OUT:
                continue
            alone(kind)
            text = COMMENTED + Path("p.toml").read_text().replace("[variables]\n", "[variables]  # what may change\n")
            Path("p.toml").write_text(text)
            with self.subTest(kind=kind):
                out = io.StringIO()
                main(["run", "p.toml", "--evaluations", "40", "--json"], Terminal(out, io.StringIO(), quiet=True))
                document = json.loads(out.getvalue())
                design = document["front"][-1]["design"] if "front" in document else "r1"
                with Ledger("ilvren.ledger", read_only=True) as ledger:
                    before = ledger.run("r1")
                self.call("apply", design, "--starts", "--dry-run")
                self.assertEqual(Path("p.toml").read_text(), text)
                self.call("apply", design, "--starts", "--quiet", status=None)
                after = Path("p.toml").read_text()
                told = json.loads(self.call("show", design, "--json", status=None)[0])
                problem = load("p.toml")
                values = np.concatenate(
                    [
                        np.ravel(
                            [
                                block.words.index(value) + 1.0 if isinstance(value, str) else value
                                for value in np.ravel(np.array(told["variables"][block.name], dtype=object))
                            ]
                        ).astype(float)
                        for block in problem.blocks
                    ]
                )
                np.testing.assert_allclose(problem.baseline, values, rtol=1e-12, atol=1e-300)
                # Only what stands behind "start" is another; comments and all else stay.
                plain = [re.sub(r"start = ([^,}\[]+|\[[^\]]*\])", "start = …", own) for own in (text, after)]
                dropped = [re.sub(r"(?:, )?start = …,? ?", "", own) for own in plain]
                self.assertEqual(
                    [re.sub(r"[\s,]", "", line) for line in dropped[1].splitlines()],
                    [re.sub(r"[\s,]", "", line) for line in dropped[0].splitlines()],
                )
                self.assertEqual(before.state, "ended")
                if after != text:  # what it was stands beside it
                    self.assertEqual(Path("p.toml.1").read_text(), text)


if __name__ == "__main__":
    unittest.main()
