"""Gunicorn's settings, and the application it loads once before forking."""

from flask import Flask
from gunicorn.workers.base import Worker

from proteron.api.application import create_application
from proteron.cli.warm import compile_first, warm_aside, warm_kernels
from proteron.records.configuration import configuration
from proteron.records.logs import configure_logs

worker_class = "gthread"
workers = 2
threads = 64
preload_app = True
timeout = 120
graceful_timeout = 3
control_socket_disable = True
accesslog = None
loglevel = "warning"


def post_worker_init(worker: Worker) -> None:
    """After forking, load what only some rooms need while the first requests are answered."""
    warm_aside(worker.wsgi.extensions["proteron"].sidecar.warm)


def application() -> Flask:
    """The application with warm kernels; connections are opened after forking."""
    configure_logs()
    settings = configuration()
    assert settings.database_url is not None
    warm_kernels()
    compile_first()
    return create_application(settings, settings.database_url)
