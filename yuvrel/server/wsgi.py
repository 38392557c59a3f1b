"""The WSGI entry point."""

import os

from django.core.wsgi import get_wsgi_application

from yuvrel.platform.memory import load_quickly, look_seldom

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yuvrel.server.settings")
load_quickly()
application = get_wsgi_application()
look_seldom()
