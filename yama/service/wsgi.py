"""The WSGI application gunicorn serves."""

import os

from django.core.wsgi import get_wsgi_application

from yama.terrain.allocation import keep_freed_memory

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yama.service.settings")
keep_freed_memory()
application = get_wsgi_application()
