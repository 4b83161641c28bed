"""Starting drives in an emulated machine, on throw-away overlays: evidence, not proof; nothing is written to them."""

from neogenesis.bench.emulator.trial import Trial, TrialAnswer, run_trial

__all__ = ["Trial", "TrialAnswer", "run_trial"]
