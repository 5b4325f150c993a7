"""Pure computation: every rule of the job. It touches no clock, file, socket or database. See README.md beside this
file.
"""
