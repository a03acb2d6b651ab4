"""How a design stands, and how a verdict on it is said: values and limits at a design, what is told beside the checks,
answers to compare with."""
