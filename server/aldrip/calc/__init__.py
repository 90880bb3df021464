"""The calculators: one typed core function each, the same JSON through API and command line.

Needs neither Django nor a database, so that the command line answers at once.
"""
