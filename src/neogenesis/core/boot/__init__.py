"""What a machine's firmware would start, worked out from the bytes on its drives and its boot entries.

`drives` looks into volumes, `devpath` reads device paths, `uefi` and `legacy` go the firmware's way, `loader`, `grub`
and `store` what a loader does then; `forecast` puts it together. It knows nothing of emulators and screens.
"""

from neogenesis.core.boot.answer import Forecast
from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.boot.forecast import forecast

__all__ = ["BootDrive", "Forecast", "forecast"]
