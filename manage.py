#!/usr/bin/env python
"""Django's command line."""

import os
import sys

if __name__ == "__main__":
    # What is written here, the database first, is for its owner alone.
    os.umask(0o077)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.settings")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
