"""The WSGI application."""

import os

from django.conf import settings
from django.core.wsgi import get_wsgi_application

from needle import quantity
from web.common.proxies import TrustedProxies

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.settings")
# What the site writes, its database first, is for its own user alone.
os.umask(0o077)
application = TrustedProxies(get_wsgi_application(), settings.TRUSTED_PROXIES)
# Units are ready before the first request: the first that is converted loads them.
quantity.parse("1 kW", "W")
