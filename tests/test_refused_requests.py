"""What commands are refused for: one message on standard error, status 2, and nothing written."""

import io
import unittest
from pathlib import Path

from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.ledger import Ledger
from tests.kinds_of_problems import alone
from tests.test_cli import InAFolder

# Commands on p.toml, whose runs r1 (a sample) and r2 are on record, and words of the message.
PLAIN = """
run p.toml --only cost --weigh cost=1                   | --only takes one objective
run p.toml --option halvings=3                          | --option needs --method
run p.toml --method sqp --option halvings               | NAME=VALUE
run p.toml --method sqp --evaluations -3                | evaluations
run p.toml --method sqp --seconds nan                   | seconds
run p.toml --method expected-hypervolume                | finds trade-offs between several objectives
run p.toml --method branch-and-bound --points 30        | trade-offs of several objectives
run p.toml --derivatives complex-step                   | is for models, and this problem has none
run p.toml --workers 0                                  | workers
run p.toml --set least=2 --set least=3                  | is given twice
run p.toml --set leest=2                                | least
run p.toml --set least=nan                              | number
run p.toml --start x=[1,2]                              | x
run p.toml --start z=2                                  | x, y
run p.toml --label r3                                   | could be taken for an id
run p.toml --sweep x=[1,2] --draw-every 3               | --draw-every
run p.toml --draw-every 3 --output d.png                | this problem has scalars only
run p.toml --output d.png                               | --output needs
run p.toml --plant least=3                              | goes with --receding
run p.toml --rounds 3                                   | goes with --on
run p.toml --receding window=1                          | --receding
run p.toml --receding window=a,advance=1                | a number is expected
run p.toml --scenarios 30                               | no formula of
run p.toml --sweep least                                | which values?
run p.toml --sweep least=[]                             | an empty list
run p.toml --sweep least=[1,inf]                        | must be finite numbers
run p.toml --sweep leest=[1,2]                          | least
run p.toml --sweep y                                    | which values?
run p.toml --repeats 0 --method cma-es                  | repeats
run p.toml --stage leest=3                              | least
run p.toml --known r9                                   | does not build on known ones
run p.toml --from r1:99                                 | r1
run p.toml --on a1                                      | a1
run p.toml --scheme radau                               | time
run p.toml --time-tolerance 3                           | is for problems over time
run p.toml --reference-point cost=3                     | several objectives
run p.toml --fix x                                      | NAME=VALUE
run p.toml --fix x=1 --fix x=2                          | is given twice
run gone.toml                                           | no such file
show p.toml --ends                                      | has not several
show r2 --set least=3                                   | is a design on record
show r2:999                                             | r2
show r77                                                | r77
check p.toml --only nothing                             | nothing
draw p.toml --variables x,x --output d.png              | one variable is given twice
draw p.toml --variables x,y,z --output d.png            | z
draw p.toml --slices --surface --output d.png           | are figures of their own
draw p.toml --generations --output d.png                | --generations needs --run with one run
draw p.toml --fit --output d.png                        | --fit draws a design on record
draw p.toml --variables x --output d.jpeg               | the suffix says what to write
draw r2 --of u --output d.png                           | has no vector of this name
draw r2 --signals s --output d.png                      | over time
sample p.toml --points 0                                | must be at least 1
sample p.toml --plan latin-hypercub                     | latin-hypercube
sample p.toml --csv gone.csv                            | gone.csv
sample p.toml --csv d.csv --points 4                    | make others
sample p.toml --measured                                | --measured goes with --csv
sample p.toml --between 3                               | between those of two or more --at
sample p.toml --slopes                                  | is for models
sample r2 --more 4                                      | is no sample
sample r1 --more 4 --set least=3                        | adds to a sample as it is
sensitivity p.toml --kind variance --fix-below 3        | --fix-below
sensitivity r1 --kind variance                          | is of a problem: name its file
sensitivity r1 --by scatter                             | is of a problem: name its file
sensitivity p.toml --keep cost<=3                       | --keep chooses among designs of runs
sensitivity p.toml --evaluations 10                     | elasticities take one design
sensitivity p.toml --of nothing                         | no quantity
sensitivity r1 --output s.toml                          | With --fix-below
scatter p.toml --evaluations 30                         | --evaluations is for --way reliability
scatter p.toml --scenarios 3                            | lies between 10 and
propose p.toml --change nothing=1                       | nothing
propose r2 --change cost=-1% --set least=3              | a design on record has its own parameters
approximate r1 --kind cubic                             | invalid choice
approximate r1 --of nothing                             | nothing
approximate r1 --error 0.1                              | goes with --infill
approximate r1 --infill 4 --error -1                    | --error must be above 0
approximate r1 --test-points 50                         | are needed to fit anything
simulate r2 --set least=3                               | it has its own parameters and tolerance
designs r1 --figure front --output f.png                | is for several objectives
designs r1 --figure pairs                               | --figure needs --output
designs r1 --figure pairs --output f.csv                | .png or .svg
designs r1 --keep nothing<=3                            | nothing
designs r1 --sort nothing                               | nothing
designs r9                                              | r9
compare r1 r1                                           | twice
compare r2 --figure nothing --output f.png              | nothing
compare r2 --figure histories                           | --figure needs --output
contest p.toml                                          | name the contenders
contest p.toml --method sqp --method sqp                | one contender is named twice
contest p.toml --method sqp:halvings                    | options follow a colon
contest p.toml --method sqp --random-starts -2          | starts
verify r2 --at x=1                                      | are for a problem file, not for a run
verify p.toml --row 3                                   | --row needs --at with a CSV file
verify p.toml --at gone.csv                             | gone.csv
verify r2 --output v.png                                | --output needs --reference-file
verify r2 --reference-tolerance 0.1                     | needs --reference
verify r2 --share 0.5                                   | is for the front of several objectives
verify r2 --makeable bore=0.1                           | bore
apply r2                                                | has nothing to write
apply r2 --parameters gone.toml                         | gone.toml
apply r2 --starts --into elsewhere                      | nothing goes there
resume r2                                               | has ended (converged)
resume r9                                               | r9
export r2 --output e.xls                                | .csv
report r2 r2 --output r.html                            | twice
report r2 --output r.docx                               | .html
runs --recover p.toml                                   | p.toml
locate p.toml:1 --deck p.toml                           | needs both --deck FILE and --listing FILE
completion tcsh                                         | no words for the shell
demo valey                                              | valley
new p.toml                                              | exists
"""
# The same of other kinds of problems.
OTHERS = {
    "several objectives": """
run p.toml --method sqp                                 | finds the best of one objective, and p.toml has 2
run p.toml --weigh cost=0,loss=0                        | all weights are 0
run p.toml --weigh cost=-1                              | a weight is a number from 0
run p.toml --weigh cosst=1                              | cosst
run p.toml --hold loss                                  | a constraint needs a comparison
run p.toml --only cosst                                 | cosst
run p.toml --reference-point cost=3                     | --reference-point lacks
run p.toml --reference-point cost=3,loss=x              | --reference-point
run p.toml --points 0                                   | points
verify r2 --share 0                                     | --share must lie above 0
verify r2 --worth                                       | front
designs r2 --figure nothing --output f.png              | nothing
compare r2 --figure attainment                          | --figure needs --output
draw p.toml --variables x --output d.png                | several objectives
""",
    "over time": """
run p.toml --scheme rada                                | radau
run p.toml --steps 0                                    | --steps
run p.toml --time-tolerance 3                           | must lie between 1e-10 and 0.1
run p.toml --receding window=1,advance=0.5              | --receding
simulate p.toml --signals nothing                       | nothing
simulate p.toml --at z=1                                | z
simulate r2 --set k=1                                   | is a design on record
draw p.toml --signals nothing --run r2 --output d.png   | nothing
draw r2 --signals heat --every 0 --output d.png         | --every
verify r2 --reference-file gone.csv                     | gone.csv
""",
    "control": """
run p.toml --receding window=0.5,advance=0.7            | advance
run p.toml --receding window=0.5,advance=0.2,until=-1   | until
run p.toml --receding window=0.5,advance=0.2,wrong=1    | wrong
run p.toml --receding window=0.5,advance=0.2,until=1 --plant q=1 | q
run p.toml --receding window=0.5,advance=0.2,until=1 --scheme simulation | names a collocation scheme
""",
    "python model": """
run p.toml --derivatives supplied                       | supplies no derivatives
run p.toml --derivatives nothing                        | nothing
run p.toml --workers somewhere                          | workers
run p.toml --method sqp --option nothing=3              | nothing
check p.toml --at width=1                               | --at
sensitivity p.toml --kind variance --of dig.are         | dig.area
approximate r1                                          | at least 5 are needed
approximate r1 --infill 0                               | --infill
scatter p.toml                                          | does not say how anything scatters
""",
    "scatter": """
scatter p.toml --scenarios 3                            | lies between 10 and
scatter p.toml --way nothing                            | no way
scatter p.toml --of nothing                             | no quantity
scatter p.toml --at wall=1 --output s.doc               | s.doc
scatter r2 --set head=3                                 | is a design on record
scatter r2 r1 --output s.csv                            | one design's scenarios
run p.toml --scenarios 3                                | lies between 10 and
sensitivity p.toml --by scatter --kind correlation      | --by scatter tells shares of the variance
sensitivity p.toml --by scatter --fix-below 0.1         | what hardly scatters may matter all the same
""",
    "vectors": """
run p.toml --start u=[1,2]                              | length 2
run p.toml --start u[9]=1                               | u
run p.toml --sweep u=[0,1]                              | is not one number
run p.toml --fix u=[1,2]                                | length 2
run p.toml --set n=2.5                                  | a whole number
draw r2 --of u --against v --output d.png               | v
draw p.toml --variables u --output d.png                | u[0]
""",
    "members": """
run p.toml --start wood=lerch                           | larch
run p.toml --fix wood=2                                 | it takes words
run p.toml --fix tube=40                                | it is no member of its catalogue
run p.toml --fix n=9                                    | its bounds are [1, 6]
run p.toml --sweep wood=[oak,elm]                       | elm
run p.toml --sweep t                                    | which values?
""",
    "fit": """
run p.toml --method sqp --lines seen=0:9                | has 5 lines here
run p.toml --lines seen=3:3                             | no line is in it
run p.toml --lines nothing=0:3                          | nothing
draw p.toml --fit --output d.png                        | --fit draws a design on record
""",
}


class Requests(InAFolder):
    def refused(self, table):
        def there():
            return {path: path.read_bytes() for path in Path().iterdir() if ".ledger" not in path.name}

        before = there()
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            runs = len(ledger.runs())
        for line in table.strip().splitlines():
            words, said = (part.strip() for part in line.rsplit(" | ", 1))
            with self.subTest(words):
                try:
                    out, err = self.call(*words.split(), status=2)
                    self.assertIn(said, err)
                    self.assertNotIn("Traceback", err)
                    self.assertEqual(out, "")
                    self.assertLessEqual(len(err.strip().splitlines()), 6, err)
                    self.assertEqual(there(), before)
                    with Ledger("ilvren.ledger", read_only=True) as ledger:
                        self.assertEqual(len(ledger.runs()), runs)
                finally:  # the next one begins with the same files
                    for path in set(there()) - set(before):
                        path.unlink()
                    for path, content in before.items():
                        path.write_bytes(content)

    def test_on_other_kinds(self):
        for kind, table in OTHERS.items():
            alone(kind)
            with self.subTest(kind):
                self.call("sample", "p.toml", "--points", "4", "--quiet")
                main(["run", "p.toml", "--evaluations", "20"], Terminal(io.StringIO(), io.StringIO(), quiet=True))
                self.refused(table)

    def test_on_a_plain_problem(self):
        alone("formulas")
        self.call("sample", "p.toml", "--points", "8", "--quiet")
        self.call("run", "p.toml", "--quiet")
        self.refused(PLAIN)


if __name__ == "__main__":
    unittest.main()
