"""The command that is printed to make a run again makes the same run, whatever it was asked with."""

import json
import shlex
import unittest

from ilvren.ledger import Ledger
from ilvren.runs import command_again
from tests.compact import WHOLE, some
from tests.kinds_of_problems import alone
from tests.test_cli import InAFolder

ASKED = {
    "formulas": """
--set least=1.5
--start x=3 --start y=0.7
--fix y=1.2
--method sqp --option halvings=9
--method cma-es --evaluations 80 --seed 4
--method nelder-mead --evaluations 60 --tolerance 1e-5 --feasibility 1e-7
--method interior-point --no-scaling --iterations 7
--hold 'x <= 1.1' --second-look 0
--method multistart --option starts=3 --evaluations 90 --target 7
--set least=1 --stage least=1.5 --stage least=2
""",
    "vectors": """
--start u=[0,0,0,0]
--set n=3
--fix u[1]=0.6
--start u=[0.1,0.2,0.1,0] --method sqp
""",
    "several objectives": """
--only cost
--weigh cost=1,loss=2
--only cost --hold 'loss <= 2'
--evaluations 100 --points 7 --seed 3
--method nondominated-sorting --evaluations 80 --reference-point cost=9,loss=9
""",
    "members": """
--fix wood=larch
--fix n=4 --method mesh-adaptive-search --evaluations 70
--start wood='red beech' --method genetic-algorithm --evaluations 60 --seed 2
""",
    "front of members": """
--only cost --fix wood=oak
--evaluations 80 --points 6
""",
    "control": """
--scheme gauss-legendre --steps 4
--scheme simulation --set nothing=1
--time-tolerance 1e-3
""",
    "over time": """
--time-tolerance 1e-3 --method sqp
--fix push=0.4
""",
    "scatter": """
--scenarios 200
--set head=55 --scenarios 150
""",
    "fit": """
--lines seen=0:4
--method levenberg-marquardt --start a=2
""",
    "cases": """
--set wind@storm=2
--method interior-point
""",
    "python model": """
--derivatives differences --method sqp
--method nelder-mead --evaluations 19
""",
    "cases of vectors": """
--fix k=2
--set n=2
""",
}
# The settings and what was asked, as far as it decides the path.
COMPARED = ("variables", "objectives", "outcome", "method", "settings", "seed")


class SameAgain(InAFolder):
    def ran(self, words):
        """Run a command; return its JSON document, None where it is refused."""
        out = self.call(*words, "--json", "--fresh", status=None)[0]
        return json.loads(out) if out.strip() else None

    def test_whatever_it_was_asked_with(self):
        done = 0
        for kind, table in some(ASKED.items()):
            alone(kind)
            for line in some(table.strip().splitlines(), 12):
                with self.subTest(kind=kind, asked=line):
                    first = self.ran(["run", "p.toml", *shlex.split(line)])
                    if first is None:
                        self.assertIn("nothing=1", line)
                        continue
                    with Ledger("ilvren.ledger", read_only=True) as ledger:
                        record = ledger.run("last")
                        words = shlex.split(command_again(record))
                    self.assertEqual(words[:3], ["ilvren", "run", "p.toml"])
                    again = self.ran([word for word in words[1:] if word != "--fresh"])
                    self.assertIsNotNone(again, words)
                    with Ledger("ilvren.ledger", read_only=True) as ledger:
                        after = ledger.run("last")
                    for key in COMPARED:
                        self.assertEqual(again.get(key), first.get(key), f"{key}: {shlex.join(words)}")
                    for key in ("set", "start", "aim", "stages", "before"):
                        self.assertEqual(after.overrides.get(key), record.overrides.get(key), key)
                    if "front" in first:
                        values = [[member["objectives"] for member in own["front"]] for own in (first, again)]
                        self.assertEqual(*values)
                    done += 1
        self.assertGreater(done, 35 if WHOLE else 3)


if __name__ == "__main__":
    unittest.main()
