"""Drawings for print and charts: SVG and PDF."""
