"""Images: qcow2 files with compressed clusters that general tools open, and the manifest beside them."""

from neogenesis.core.image.qcow2 import Qcow2Store, is_qcow2
from neogenesis.core.image.write import Qcow2Writer

__all__ = ["Qcow2Store", "Qcow2Writer", "is_qcow2"]
