"""How everything looks: colours, sizes, fonts and icons, each declared once."""

from neogenesis.app.theme.icons import icon, icon_pixmap
from neogenesis.app.theme.look import Look, look
from neogenesis.app.theme.tokens import DAY, NIGHT, Tokens, tag_look

__all__ = ["DAY", "NIGHT", "Look", "Tokens", "icon", "icon_pixmap", "look", "tag_look"]
