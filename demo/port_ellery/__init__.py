"""Port Ellery: a made-up town's water board, generated from a seed. Nothing in it is real."""

from port_ellery.files import write_demo
from port_ellery.town import Town, make_town

__all__ = ["Town", "make_town", "write_demo"]
