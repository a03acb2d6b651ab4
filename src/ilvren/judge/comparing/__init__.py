"""How runs compare: histories, designs, contests of methods, and what the data support."""
