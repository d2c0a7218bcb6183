"""Engines: processes of their own in which all geometry is worked on, so that none of it can end or hold up the web
server.
"""
