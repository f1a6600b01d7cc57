from django.urls import path
from django.views.generic import RedirectView

from web.jobs import views

app_name = "jobs"
urlpatterns = [
    path("", RedirectView.as_view(pattern_name="jobs:list"), name="home"),
    path("jobs/", views.index, name="list"),
    path("jobs/<int:job>/restore/", views.restore, name="restore"),
    path("jobs/<int:job>/details/", views.edit, name="edit"),
    path("jobs/<int:job>/delete/", views.delete, name="delete"),
    path("jobs/<int:job>/remove/", views.remove, name="remove"),
    path("jobs/<int:job>/undo/<int:change>/", views.undo, name="undo"),
]
