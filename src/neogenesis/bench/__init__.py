"""The outside world: drives, simulated drives, filesystem utilities, worker processes. No window.

Who imports it has handed the shipped data to the core.
"""

from neogenesis.bench.records.shipped import hand_in

hand_in()
