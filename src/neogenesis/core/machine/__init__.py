"""What is known of a kind of machine: its bays, memory, fasteners, steps and firmware."""

from neogenesis.core.machine.model import Machine
from neogenesis.core.machine.plate import Match, machine_on_plate
from neogenesis.core.machine.read import read_machine

__all__ = ["Machine", "Match", "machine_on_plate", "read_machine"]
