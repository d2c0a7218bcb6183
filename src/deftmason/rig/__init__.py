"""Simulated devices that ship with the program."""
