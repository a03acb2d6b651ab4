"""One small problem over time of every kind, for what must hold of all of them."""

HEAD = "[time]\nto = {to}\nsteps = {steps}\n"


def text(body: str, *, to: object = 3, steps: int = 12) -> str:
    """Return the text of a problem over time."""
    return HEAD.format(to=to if not isinstance(to, str) else f'"{to}"', steps=steps) + body


KINDS = {
    "oscillating": text("""
[variables]
k = { start = 1.3, lower = 0.1, upper = 5 }
begin = { start = 0.7, lower = 0, upper = 2 }
[states]
x = { rate = "v", initial = "begin" }
v = { rate = "k * (1 - x^2) * v - x", initial = 0.2 }
[minimize]
cost = "integral(x^2) + last(v)^2"
[constraints]
cap = "x <= 2.5"
"""),
    "stiff": text("""
[variables]
k = { start = 800, lower = 1, upper = 5000 }
[states]
x = { rate = "v", initial = 2 }
v = { rate = "k * (1 - x^2) * v - x", initial = 0 }
[minimize]
cost = "average(x) + last(x)"
"""),
    "saturated": text("""
[variables]
gain = { start = 2.0, lower = 0.1, upper = 9 }
[states]
x = { rate = "min(max(gain * (1 - x), -0.5), 0.6) - 0.2 * abs(x - 0.5)", initial = 0 }
[minimize]
cost = "integral(abs(x - 0.9))"
"""),
    "switched": text("""
[variables]
level = { start = 0.6, lower = 0.1, upper = 2 }
[states]
x = { rate = "where(x < level, 1, 0.3) - 0.05 * x", initial = 0 }
[minimize]
cost = "integral(x) + last(x)"
"""),
    "chosen in pieces": text("""
[variables]
k = { start = 0.8, lower = 0.1, upper = 2 }
[controls]
u = { start = 0.4, lower = -1, upper = 1, pieces = 4 }
w = { start = [0.1, 0.6, -0.2, 0.3], lower = -1, upper = 1, pieces = 3, form = "linear" }
[states]
x = { rate = "u - k * x + w^2", initial = 0.1 }
[minimize]
cost = "integral(x * u) + sum(moves(u)^2) + highest(x)"
[constraints]
band = "u + x <= 2"
"""),
    "delayed": text("""
[variables]
k = { start = 1.2, lower = 0.1, upper = 5 }
[states]
x = { rate = "-k * delayed(x, 0.4) + 0.1 * sin(t)", initial = 1 }
[minimize]
cost = "integral(x^2) + last(x)"
"""),
    "delayed by the design": text("""
[variables]
k = { start = 1.2, lower = 0.1, upper = 5 }
lag = { start = 0.37, lower = 0.1, upper = 1 }
[states]
x = { rate = "-k * delayed(x, lag)", initial = 1 }
[minimize]
cost = "integral(x^2) + last(x)"
"""),
    "sampled": text("""
[variables]
gain = { start = 0.5, lower = 0.1, upper = 2 }
[states]
x = { rate = "held - x", initial = 0 }
held = { every = 0.5, next = "held + gain * (1 - delayed(x, 0.2))^2", initial = 0 }
[minimize]
cost = "integral((1 - x)^2) + last(held)"
"""),
    "delayed, saturated, sampled and chosen in pieces": text("""
[variables]
gain = { start = 1.4, lower = 0, upper = 3 }
lag = { start = 0.43, lower = 0.3, upper = 0.6 }
[controls]
w = { start = [0.1, 0.6, -0.2], lower = -1, upper = 1, pieces = 3 }
[states]
x = { rate = "min(u + 0.5 * delayed(u, 0.8), 0.9) - delayed(x, 0.4) + 0.3 * delayed(w, 0.5)", initial = "0.1 * gain" }
y = { rate = "delayed(x, lag) - y", initial = 0.2 }
u = { every = 0.5, next = "u + gain * (1 - delayed(y, 0.2))", initial = 0.1 }
[minimize]
cost = "integral((x - 1)^2) + last(y)"
"""),
    "delayed with its branches": text("""
[variables]
gain = { start = 1.4, lower = 0, upper = 3 }
[states]
x = { rate = "max(gain * (1 - delayed(x, 0.31)), -0.2) - y", initial = "0.1 * gain" }
y = { rate = "0.3 * x^2 - 0.1 * delayed(y, 0.7)", initial = 0.2 }
[minimize]
cost = "integral((x - 1)^2) + last(y)"
"""),
    "delayed and stiff": text("""
[variables]
k = { start = 900, lower = 100, upper = 5000 }
[states]
x = { rate = "-k * (x - sin(t)) + delayed(z, 0.4)", initial = 0.5 }
z = { rate = "x - z * delayed(x, 0.7)", initial = 1 }
[minimize]
cost = "average(x) + last(z)"
"""),
    "of a free end": text(
        """
[variables]
end = { start = 2.3, lower = 1, upper = 5 }
k = { start = 0.9, lower = 0.1, upper = 3 }
[states]
x = { rate = "-k * x * abs(t - 1.1)", initial = 1 }
[minimize]
cost = "end * 0.1 + last(x) + integral(x)"
[constraints]
floor = "x + 0.05 * t >= 0.05"
""",
        to="end",
    ),
    "looked at where the design says": text("""
[variables]
when = { start = 1.37, lower = 0.1, upper = 2.9 }
k = { start = 0.9, lower = 0.1, upper = 3 }
[states]
x = { rate = "-k * x + sin(t)", initial = 1 }
[minimize]
cost = "at(x, when) * when"
"""),
    "of linear blocks": text("""
[variables]
damp = { start = 0.8, lower = 0.1, upper = 3 }
[states]
y = { transfer = { of = "1 + 0.2 * t", numerator = [1, 2], denominator = [1, "damp", 4] } }
z = { transfer = { of = "y", numerator = [1, 0.5], denominator = [0.3, 1] } }
[minimize]
cost = "integral(z^2) + last(y)"
"""),
    "of vectors": text("""
[variables]
k = { start = 1.5, lower = 0.1, upper = 5 }
[parameters]
n = 5
[states]
heat = { rate = "k * (join(1, heat[:-1]) - 2 * heat + join(heat[1:], heat[-1:]))", initial = 0, shape = "n" }
[minimize]
cost = "(last(sum(heat)) - 3)^2 + integral(dot(heat, heat))"
[constraints]
cap = "heat <= 1.5"
"""),
    "measured": text("""
[variables]
k = { start = 9.0, lower = 1, upper = 30 }
[states]
x = { rate = "v", initial = 0 }
v = { rate = "k * (1 - x) - 1.7 * v", initial = 0 }
[minimize]
cost = "rise_time(x, 0.1, 0.9) + settling_time(x, 1, 0.05) + overshoot(x, 1) + lowest(v)"
"""),
    "decided by what was": text("""
[variables]
level = { start = 0.63, lower = 0.1, upper = 2 }
k = { start = 0.7, lower = 0.1, upper = 2 }
[states]
x = { rate = "where(delayed(x, 0.45) < level, 1, -k * x)", initial = 0.1 }
y = { rate = "max(delayed(x, 0.3) - 0.5 * y, 0.1) - 0.2 * y", initial = 0 }
[minimize]
cost = "integral(x^2) + last(y)"
"""),
    "decided by controls that were": text("""
[variables]
lag = { start = 0.43, lower = 0.3, upper = 0.6 }
[controls]
u = { start = [0.1, 0.9, -0.6, 0.8], lower = -1, upper = 1, pieces = 3, form = "linear" }
[states]
x = { rate = "max(delayed(u, lag), 0.2) + 0.3 * u - x", initial = 0.1 }
[minimize]
cost = "integral(x^2) + last(x)"
"""),
    "driven, decided and of a free end": text(
        """
[variables]
k = { start = 1.1, lower = 0.1, upper = 3 }
end = { start = 2.3, lower = 1, upper = 5 }
[states]
x = { rate = "min(sin(3 * t) * k, x + 0.15) - 0.3 * x", initial = 0.2 }
[minimize]
cost = "integral(x^2) + last(x) + 0.1 * end"
""",
        to="end",
    ),
    "stiff and switched": text("""
[variables]
k = { start = 200, lower = 100, upper = 5000 }
level = { start = 0.25, lower = 0.1, upper = 2 }
[states]
x = { rate = "-k * (x - where(y < level, 1, 0.2) * cos(t))", initial = 0.5 }
y = { rate = "0.3 * x - 0.05 * y", initial = 0.1 }
[minimize]
cost = "average(x) + last(y)"
"""),
    "delayed until a free end": text(
        """
[variables]
end = { start = 2.3, lower = 1, upper = 5 }
k = { start = 1.2, lower = 0.1, upper = 3 }
[controls]
u = { start = [0.1, 0.6, -0.2], lower = -1, upper = 1, pieces = 2, form = "linear" }
[states]
x = { rate = "-k * delayed(x, 0.4) + 0.5 * delayed(u, 0.7) + 0.1 * sin(2 * t)", initial = 1 }
[minimize]
cost = "integral(x^2) + last(x) + 0.1 * end"
""",
        to="end",
    ),
    "sampled and decided": text("""
[variables]
gain = { start = 0.9, lower = 0.1, upper = 2 }
[states]
x = { rate = "min(held, 0.55) - 0.7 * x + 0.2 * sin(t)", initial = 0 }
held = { every = 0.4, next = "held + gain * max(0.6 - delayed(x, 0.15), -0.1)", initial = 0 }
[minimize]
cost = "integral((1 - x)^2) + last(held)"
"""),
}
