from django.urls import path

from web.outward import views

app_name = "outward"
urlpatterns = [
    path("out/", views.index, name="index"),
    path("out/publish/", views.publish, name="publish"),
    path("out/<int:hook>/remove/", views.remove, name="remove"),
]
