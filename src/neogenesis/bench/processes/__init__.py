"""Talks to the system's processes: long works and their workers, readers that may be killed, utilities, clocks, rights.

Everything here knows drives only as stores or names; who a drive is stands in `drives`.
"""
