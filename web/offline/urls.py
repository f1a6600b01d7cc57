from django.urls import path

from web.offline import views

app_name = "offline"
urlpatterns = [
    path("service-worker.js", views.worker, name="worker"),
    path("manifest.webmanifest", views.manifest, name="manifest"),
    path("offline/", views.page, name="page"),
    path("jobs/<int:job>/offline/", views.to_keep, name="to-keep"),
]
