"""What is known of a kind of machine: its bays, memory, fasteners, steps and firmware."""

from neogenesis.core.machine.model import Machine, read_machine
from neogenesis.core.machine.plate import Match, machine_on_plate

__all__ = ["Machine", "Match", "machine_on_plate", "read_machine"]
