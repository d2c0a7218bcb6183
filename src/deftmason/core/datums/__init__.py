"""Datums read from a scan, made from one another, and measured against one another."""
