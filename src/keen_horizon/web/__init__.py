"""The web application: a factory, the pages, and what they ask for (api). The browser only draws."""

from keen_horizon.web.factory import create_app

__all__ = ["create_app"]
