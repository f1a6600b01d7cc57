"""The WSGI application."""

import os

from django.core.wsgi import get_wsgi_application

from needle import quantity

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.settings")
application = get_wsgi_application()
# Units are ready before the first request.
quantity.parse("1 W", "W")
