"""What the depots' web server loads."""

from yama.depot.app import open_for_demo

application = open_for_demo()
