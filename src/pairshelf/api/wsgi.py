"""What the web server loads."""

from pairshelf.api.app import served

app = served()
