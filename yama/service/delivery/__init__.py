"""Packages of a project: checked, built as jobs, taken away."""
