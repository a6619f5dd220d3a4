"""The web application: a factory, one blueprint a page, and the JSON API. The browser only draws."""

from keen_horizon.web.factory import create_app

__all__ = ["create_app"]
