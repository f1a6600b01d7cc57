from django.urls import path

from web.trials import views

app_name = "trials"
urlpatterns = [
    path("trials/", views.index, name="index"),
    path("trials/follow/", views.follow, name="follow"),
    path("trials/compare/", views.side_by_side, name="compare"),
    path("trials/display/<int:supply>/", views.display, name="display"),
    path("trials/start/", views.start, name="start"),
    path("trials/past/", views.past, name="past"),
    path("trials/<int:trial>/", views.page, name="trial"),
    path("trials/<int:trial>/details/", views.edit, name="edit"),
    path("trials/<int:trial>/check-in/", views.check_in, name="check-in"),
    path("trials/<int:trial>/check-ins/<int:pk>/", views.edit_check_in, name="edit-check-in"),
    path(
        "trials/<int:trial>/check-ins/<int:pk>/remove/",
        views.remove_check_in,
        name="remove-check-in",
    ),
    path("trials/<int:trial>/end/", views.end, name="end"),
    path("trials/<int:trial>/resume/", views.resume, name="resume"),
    path("trials/<int:trial>/simulate/", views.simulate, name="simulate"),
    path("trials/<int:trial>/taught/", views.taught, name="taught"),
    path("trials/<int:trial>/carry/", views.carry, name="carry"),
    path("trials/<int:trial>/remove/", views.remove, name="remove"),
    path("trials/<int:trial>/download/<str:filename>", views.download, name="download"),
]
