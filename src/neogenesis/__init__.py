"""Neogenesis moves a customer's system and data to a new storage drive, with proof."""

__version__ = "0.1.0"
