"""The Handover stop: the report, before and after."""
