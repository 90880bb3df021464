"""WSGI entry for the web processes."""

import gc
import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aldrip.settings")
application = get_wsgi_application()

# What is read now stays; looking through it for circles again and again took a fifteenth of every answer.
gc.collect()
gc.freeze()
gc.set_threshold(50_000, 20, 50)
