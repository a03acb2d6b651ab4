# %% [markdown]
# # A settling tank in a notebook
#
# A notebook as text: cells begin with `# %%`, which notebook editors open as they are. The last value of a cell is
# shown; results of Ilvren show themselves as tables and figures.

# %%
import ilvren
from ilvren.runs import Settings, sweep

problem = ilvren.loads("""
title = "Open settling tank"
[variables]
diameter = { start = 3.0, lower = 0.5, upper = 8.0, unit = "m" }
depth    = { start = 1.0, lower = 0.5, upper = 4.0, unit = "m" }
[parameters]
volume = { value = 20.0, unit = "m^3" }
sheet  = { value = 38.0, unit = "EUR/m^2" }
[derived]
floor = { formula = "pi / 4 * diameter^2", unit = "m^2" }
side  = { formula = "pi * diameter * depth", unit = "m^2" }
[minimize]
cost = { formula = "sheet * (floor + side)", unit = "EUR" }
[constraints]
holds = { formula = "floor * depth >= volume", unit = "m^3" }
slim  = "depth / diameter <= 0.45"
""")
problem

# %% [markdown]
# Are the derivatives right, do limits conflict, is anything badly scaled?

# %%
ilvren.check(problem)

# %% [markdown]
# With derivatives, and without.

# %%
smooth = ilvren.run(problem, method="sqp")
smooth

# %%
simplex = ilvren.run(problem, method="nelder-mead")
ilvren.compare(smooth, simplex)

# %% [markdown]
# Is it an optimum?

# %%
ilvren.verify(smooth)

# %% [markdown]
# What would other volumes cost, and what would it cost to keep to a depth?

# %%
sweep(problem, "volume", [10.0, 15.0, 20.0, 25.0, 30.0], Settings(method="sqp"))

# %%
sweep(problem, "depth", [0.8, 1.0, 1.2, 1.4], Settings(method="sqp"))
