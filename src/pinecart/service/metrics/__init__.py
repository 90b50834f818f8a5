"""Figures for machines."""
