from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "deftmason.server.jobs"
    label = "jobs"
