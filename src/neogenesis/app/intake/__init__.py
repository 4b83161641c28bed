"""The Intake stop: what the customer says, what must survive, and what is measured before anything is done."""
