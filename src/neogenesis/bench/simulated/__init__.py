"""Stand-ins for hardware: drives described by a `*.drive.json`, and the bench that the demo shows."""

from neogenesis.bench.drives.simulated import SimulatedDrive, SimulatedSpec, SimulatedTarget, load_spec

__all__ = ["SimulatedDrive", "SimulatedSpec", "SimulatedTarget", "load_spec"]
