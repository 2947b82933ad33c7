"""The interface: Flask, one module and one template folder for each stage."""

from cavrel.web.app import create_app

__all__ = ["create_app"]
