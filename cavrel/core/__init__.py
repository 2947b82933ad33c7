"""The computation of Cavrel: no interface, no SQL, no network.

See README.md next to this file for the rule of the layer.
"""
