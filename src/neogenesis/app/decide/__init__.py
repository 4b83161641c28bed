"""The Decide stop: the ways side by side, what each costs in time, money, loss and risk, and the choice."""
