"""The demos: what each decides and shows, its steps with why they are taken, and what to try next."""

from __future__ import annotations

from ilvren.records import dataclass

__all__ = ["TOURS", "Tour"]


@dataclass(frozen=True)
class Tour:
    """A demo: its `folder` among those that ship, what is decided in it, what of the program it `shows`, its `steps`
    (why, and the command without "ilvren"; the ledger is the default one, in the demo's folder), what to try next, and
    the commands whose answer is no, which is a part of the story."""

    folder: str
    decides: str
    shows: str
    steps: tuple[tuple[str, str], ...]
    next: str
    answered_no: tuple[str, ...] = ()


LOOP = "run tank-day.toml --receding 'window=12, advance=1, until=48' --plant loss=0.02 --output loop.png"

TOURS: dict[str, Tour] = {
    "rising-main": Tour(
        folder="rising_main",
        decides="bore, wall and duty of the delivery pipe, for the least cost of 20 years",
        shows="formulas, exact derivatives, contest, worth, report",
        steps=(
            (
                "What is asked? All variables, formulas and limits, with their values at the file's start.",
                "show rising-main.toml",
            ),
            (
                "A gradient-based method. The formulas give exact derivatives, so a few evaluations are enough.",
                "run rising-main.toml --method sqp --label with-gradients",
            ),
            (
                "The same without derivatives: a simplex search needs many more evaluations for the same design.",
                "run rising-main.toml --method nelder-mead --label simplex",
            ),
            (
                "Both runs are in the ledger. Side by side: where they got to, and how fast; the figure shows how.",
                "compare with-gradients simplex --output histories.png",
            ),
            (
                "Is it an optimum, and what is it worth? Checked afresh from the stored problem; no method is trusted.",
                "verify with-gradients --worth --makeable bore=0.005 --makeable wall=0.1",
            ),
            (
                "One start says little. A contest: the same random starts for all methods, and what the data support.",
                "contest rising-main.toml --method sqp --method interior-point --method nelder-mead --random-starts 8",
            ),
            (
                "The picture: contours of cost over two variables, where each limit is missed, and the two paths.",
                "draw rising-main.toml --variables wall,duty --run with-gradients simplex --output contours.png",
            ),
            (
                "Everything on one page, for the file and for others.",
                "report with-gradients simplex --output report.html",
            ),
        ),
        next="change rising-main.toml; ilvren run rising-main.toml --method sqp --set tariff=0.30",
    ),
    "valley": Tour(
        folder="valley",
        decides="two settings of a siphon whose best ones are known",
        shows="paths of methods, contours, surface",
        steps=(
            (
                "Two variables, and a narrow curved valley whose lowest point is known: 1.2 and 1.152.",
                "check valley.toml",
            ),
            (
                "With gradients, the bend of the valley is learnt on the way.",
                "run valley.toml --method sqp",
            ),
            (
                "Without them a simplex creeps along its floor.",
                "run valley.toml --method nelder-mead --label simplex",
            ),
            (
                "Side by side.",
                "compare r1 simplex",
            ),
            (
                "The two paths on the contours. A grid across a narrow valley shows many low points; one is real.",
                "draw valley.toml --run r1 simplex --output paths.png",
            ),
            (
                "The same as a surface.",
                "draw valley.toml --surface --output surface.png",
            ),
        ),
        next="ilvren run valley.toml --method sqp --start crest=1.9 --start gate=-0.4",
    ),
    "hum": Tour(
        folder="hum",
        decides="the speed of a pump between the pipe's resonances",
        shows="many local optima, multistart, repeats, proof",
        steps=(
            (
                "One variable with many local minima: look first. The lowest points seen are listed as starts.",
                "draw hum.toml --tangent --output curve.png",
            ),
            (
                "From the file's own start: an optimum, but of its surroundings only.",
                "run hum.toml --method sqp",
            ),
            (
                "From the lowest point of the picture.",
                "run hum.toml --method sqp --start speed=28.87985 --label looked-first",
            ),
            (
                "What the start decides.",
                "compare r1 looked-first",
            ),
            (
                "Without looking: a local method from a spread of starts, and how often each optimum was reached.",
                "run hum.toml --method multistart --label many-starts",
            ),
            (
                "Does a random search find it reliably? Six seeds, and what they come to together.",
                "run hum.toml --method differential-evolution --repeats 6 --label seed",
            ),
            (
                "How one of these populations improved, narrowed and moved.",
                "draw hum.toml --generations --run 'seed[0]' --output generations.png",
            ),
            (
                "Both are strict local optima. That none is better than this one, intervals prove.",
                "verify looked-first --prove",
            ),
        ),
        next="ilvren run hum.toml --method nelder-mead --start speed=35",
    ),
    "trench": Tour(
        folder="trench",
        decides="the levels of a buried pipe along a line: least digging",
        shows="vectors, sparsity, tens of thousands of variables",
        steps=(
            (
                "A vector of levels: three lines of constraints make 178 rows. The pattern shows who depends on whom.",
                "show trench.toml --output pattern.png",
            ),
            (
                "Derivatives, sizes, conflicts and units, before any run.",
                "check trench.toml --units",
            ),
            (
                "The least digging. Long constraints are summed up in a line each.",
                "run trench.toml --method sqp",
            ),
            (
                "Is it? Checked afresh.",
                "verify last",
            ),
            (
                "The length is a parameter. 20,000 stations: 59,998 rows, whose derivatives three "
                "directions still give.",
                "show trench.toml --set stations=20000",
            ),
        ),
        next="ilvren run trench.toml --method sqp --set stations=150 --set cover=1.2",
    ),
    "pump-test": Tour(
        folder="pump_test",
        decides="the coefficients of a pump's curves, from readings",
        shows="fits, likelihood, robust loss, differential equations, forecasts",
        steps=(
            (
                "Readings from a CSV file, and the curves to be fitted to them.",
                "show pump-test.toml",
            ),
            (
                "Least squares; the head's loss is a robust one, for a gauge that was misread once.",
                "run pump-test.toml --method sqp",
            ),
            (
                "Is it the best fit? Checked afresh.",
                "verify last",
            ),
            (
                "How sharply each coefficient is told by the data: each varied alone through the fit.",
                "draw pump-test.toml --run last --slices --output slices.png",
            ),
            (
                "The head curve by likelihood, with the gauge's spread among the unknowns: the misreading inflates it.",
                "run likelihood.toml --method sqp --label likely",
            ),
            (
                "A differential equation fitted to two experiments: the pump's run-down, warm and cold.",
                "run run-down.toml --label run-down",
            ),
            (
                "Data of both, and how fast the pump is over time.",
                "simulate run-down --output run-down.png",
            ),
            (
                "Do the first nine seconds tell the rest? Fitted on them alone, and held against what was read later.",
                "run run-down.toml --lines seen=0:12 --label early",
            ),
            (
                "Readings, model and band, and what is left over; what was forecast is open.",
                "draw early --fit --output forecast.png",
            ),
        ),
        next="ilvren draw likelihood.toml --variables lean,fall --run likely --output contours.png",
    ),
    "level-loop": Tour(
        folder="level_loop",
        decides="the gains of the loop that holds a tank's level",
        shows="simulation over time, samples, delays, measures of a response",
        steps=(
            (
                "A controller's gains. What evolves is simulated: two states, three that change at samples, a delay.",
                "show level-loop.toml",
            ),
            (
                "The answer to a step with the gains of the file, and what is measured of it.",
                "simulate level-loop.toml --signals level,order,opening --output start.png",
            ),
            (
                "The least error and valve travel within limits on overshoot, rise and settling, by exact derivatives.",
                "run level-loop.toml --label tuned",
            ),
            (
                "How the answer became what it is, with the limits on it.",
                "draw level-loop.toml --signals level,opening --run tuned --every 3 --output answers.png",
            ),
            (
                "Is it an optimum? The simulation is integrated afresh, too.",
                "verify tuned",
            ),
        ),
        next="ilvren run level-loop.toml --set beyond_cap=0.03 --label looser",
    ),
    "tank-day": Tour(
        folder="tank_day",
        decides="when to lift water on a day, against a tariff",
        shows="optimal control, collocation, receding horizon, known answer",
        steps=(
            (
                "A day: when to lift water, against a tariff and the orchard's draw. The start misses most limits.",
                "show tank-day.toml",
            ),
            (
                "The best control at every moment: states are unknowns on a grid, refined until its error is small.",
                "run tank-day.toml --label day",
            ),
            (
                "Levels between their bounds, the pump, and what a metre more of water would be worth.",
                "draw tank-day.toml --signals 'middle,top,pump,worth of middle' --run day --output day.png",
            ),
            (
                "Is it an optimum? Every interval is integrated afresh, by another integrator.",
                "verify day",
            ),
            (
                "Two days as they come: twelve hours ahead, an hour at a time, a main that is rougher than "
                "the file says. Plans that use every limit to the full leave no room for that: some are missed.",
                LOOP,
            ),
            (
                "A filling whose exact answer is known by hand.",
                "run known-answer.toml --label known",
            ),
            (
                "Curve by curve.",
                "verify known --reference-file exact.csv",
            ),
        ),
        next="ilvren run tank-day.toml --scheme hermite-simpson --draw-every 5 --output courses.png",
        answered_no=(LOOP,),
    ),
    "terrace-pipes": Tour(
        folder="terrace_pipes",
        decides="which pipes from stock, computed by a program",
        shows="external program, decks, catalogue, apply",
        steps=(
            (
                "A program reads pipes.deck. Where do its numbers stand? As entries to paste into a problem file.",
                "locate pipes.deck trunk=125 link=63",
            ),
            (
                "The problem file is there. Run once: every value with its line, and whether it is the one expected.",
                "check terrace-pipes.toml --only programs --expect cost=12356 --expect fastest=1.338",
            ),
            (
                "The choice among the pipes on stock. Where the program fails, the search goes around.",
                "run terrace-pipes.toml --label pipes",
            ),
            (
                "Every design that was computed, the best first.",
                "designs pipes --top 8",
            ),
            (
                "Is every neighbouring pipe worse? Checked one by one; and what is asked of the chosen "
                "design alone holds.",
                "verify pipes",
            ),
            (
                "The design goes back into the deck, and the program is run from there.",
                "apply pipes --into chosen --starts",
            ),
        ),
        next="ilvren run terrace-pipes.toml --from pipes --add bursts --set closing=4 --workers 2",
    ),
    "stilling-basin": Tour(
        folder="stilling_basin",
        decides="a basin that calms the water, followed step by step by a model that takes a while",
        shows="plans, surfaces in place of a model, what drives what, searching on surfaces",
        steps=(
            (
                "A model that takes a while. Forty designs of a plan first: what can be had, before any search.",
                "sample stilling-basin.toml --points 40 --label look",
            ),
            (
                "Surfaces in place of the model, chosen by how wrong they are at points left out.",
                "approximate look --label surface --output predicted.png",
            ),
            (
                "What drives the energy that is left behind the sill? Told on the surface, with its error.",
                "sensitivity surface --of still --output drivers.png",
            ),
            (
                "The best design on the surface, evaluated truly, learnt from, and searched again: three true calls.",
                "run stilling-basin.toml --on surface --rounds 3 --label searched",
            ),
            (
                "For comparison without surfaces: derivatives by differences of the model itself.",
                "run stilling-basin.toml --label direct",
            ),
            ("How close three calls came, and what the other way cost.", "compare searched direct"),
            ("Is it an optimum?", "verify direct"),
            (
                "What was sampled and what was learnt, on one page.",
                "report look surface --output look.html",
            ),
        ),
        next="ilvren run stilling-basin.toml --on surface --rounds 8 --label further",
    ),
    "cutwater": Tour(
        folder="cutwater",
        decides="the outline of a deflector: 60 coordinates",
        shows="shape, tables, designs as figures and files",
        steps=(
            (
                "A shape: 30 points of an outline from a CSV file, free to move along and across within limits.",
                "show cutwater.toml",
            ),
            (
                "Sixty coordinates with exact derivatives.",
                "run cutwater.toml --label shape",
            ),
            (
                "The outline: y against x, where it began and how it went.",
                "draw shape --of y --against x --every 6 --output outline.png",
            ),
            (
                "Is it an optimum?",
                "verify shape",
            ),
            (
                "The outline for the workshop.",
                "export shape --of x,y --output new-outline.csv",
            ),
        ),
        next="ilvren run cutwater.toml --set gap=0.05 --from shape",
    ),
    "cost-or-loss": Tour(
        folder="cost_or_loss",
        decides="capital against water lost",
        shows="several objectives, fronts, catalogue, verdicts on fronts",
        steps=(
            (
                "Two objectives. Do they conflict, how much, and what is each where the other is best?",
                "show cost-or-loss.toml --ends",
            ),
            (
                "Their front: a look around, then designs exactly on it, by derivatives.",
                "run cost-or-loss.toml --label front",
            ),
            (
                "Is every design of it an optimum of its own? And what does a little of one cost of the other there?",
                "verify front",
            ),
            (
                "A population alone comes near it, with many more evaluations.",
                "run cost-or-loss.toml --method nondominated-sorting --label population",
            ),
            (
                "Side by side: how much each dominates, after how many evaluations, and where each is better.",
                "compare front population --output fronts.png",
            ),
            (
                "To choose: what leaks at most 6000 m^3 a year, and the picture with what holds each design.",
                "designs front --keep 'loss <= 6000' --sort cost --top 5",
            ),
            (
                "The picture.",
                "designs front --figure front --output front.png",
            ),
            (
                "The same from the catalogue: few designs, so all are evaluated, and the front is whole.",
                "run from-catalogue.toml --points 10 --label catalogue",
            ),
        ),
        next="ilvren run cost-or-loss.toml --set hours_count=1 --label three",
    ),
    "as-made": Tour(
        folder="as_made",
        decides="a pipe that keeps its limits however walls, bores and demand turn out",
        shows="scatter, chance and reliability, robust runs",
        steps=(
            (
                "The best rising main, as if it were made exactly: two limits are met with nothing to spare.",
                "run as-designed.toml --label exactly",
            ),
            (
                "How it fares as it will be made: the file's [scatter] says how walls, bores, friction and "
                "demand differ.",
                "scatter exactly --way sampling,linear --output as-designed.png",
            ),
            (
                "A design that is good in spite of it: the same pipe, its limits to be met in so many of a "
                "hundred cases.",
                "run as-made.toml --label as-made",
            ),
            (
                "The same look at that one, with the rare misses: the likeliest way to each, and how rare "
                "it really is.",
                "scatter as-made --way sampling,reliability --output as-made.png",
            ),
            (
                "Before and after, side by side.",
                "scatter exactly as-made --output before-and-after.png",
            ),
            (
                "Is it an optimum, and does it keep its promises in scenarios that the run has not seen?",
                "verify as-made",
            ),
        ),
        next="ilvren scatter as-made.toml --at wall=9 --scenarios 100000",
    ),
}
