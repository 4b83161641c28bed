"""Every action declared once, and the command field that finds any of them."""
