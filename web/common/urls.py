from django.urls import path

from web.common import views

app_name = "common"
urlpatterns = [
    path("words/", views.glossary, name="glossary"),
    path("quantity/", views.echo, name="echo"),
    path("alive/", views.alive, name="alive"),
    path("ready/", views.ready, name="ready"),
    path("metrics/", views.figures, name="metrics"),
]
