from django.urls import path

from web.matching import views

app_name = "matching"
urlpatterns = [
    path("compare/", views.compare, name="compare"),
    path("supplies/starts/", views.starts, name="starts"),
    path("supplies/starts/record/", views.record_start, name="record-start"),
    path("supplies/starts/<int:test>/remove/", views.remove_start, name="remove-start"),
    path("loads/<int:load>/cord/", views.cord, name="cord"),
    path("loads/<int:load>/power-factor/", views.correction, name="correction"),
    path(
        "loads/<int:load>/power-factor/record/", views.record_correction, name="record-correction"
    ),
    path(
        "loads/<int:load>/power-factor/<int:tried>/remove/",
        views.remove_correction,
        name="remove-correction",
    ),
]
