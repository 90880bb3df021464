"""WSGI entry for the web processes."""

import os

from django.core.wsgi import get_wsgi_application

from aldrip.base.circles import hunt_less

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aldrip.settings")
application = get_wsgi_application()

hunt_less()
