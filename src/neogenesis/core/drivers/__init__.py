"""Drivers: what hardware a machine has, what INF files offer for it, which of them is best, and what is missing.

`hardware` reads lists of devices, `inf` reads INF files, `rank` compares them, `modules` does the same for a Linux
kernel tree, `answer` puts it together. It opens no file and no archive.
"""

from neogenesis.core.drivers.answer import Answer, answer
from neogenesis.core.drivers.hardware import Device, Hardware, read_hardware
from neogenesis.core.drivers.inf import Inf, InfFault, read_inf

__all__ = ["Answer", "Device", "Hardware", "Inf", "InfFault", "answer", "read_hardware", "read_inf"]
