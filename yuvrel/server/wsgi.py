"""The WSGI entry point."""

import os

from django.core.wsgi import get_wsgi_application

from yuvrel.platform.memory import look_seldom

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yuvrel.server.settings")
application = get_wsgi_application()
look_seldom()
