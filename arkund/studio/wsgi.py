"""The WSGI application that waitress serves."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
application = get_wsgi_application()
