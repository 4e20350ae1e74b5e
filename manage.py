#!/usr/bin/env python
"""Django's command line. `./run` and `./test` call it with the right environment."""

import os
import sys

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yama.service.settings")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
