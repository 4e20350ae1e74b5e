"""Yama: build elevation surfaces and show which source can be trusted where."""

__version__ = "0.1.0"
