from django.urls import path

from web.rounds import views

app_name = "rounds"
urlpatterns = [
    path("bench/round/", views.index, name="index"),
    path("bench/round/<int:record>/", views.page, name="round"),
    path("bench/round/<int:record>/mark/", views.mark, name="mark"),
    path("bench/round/<int:record>/anew/", views.anew, name="anew"),
    path("bench/round/<int:record>/remove/", views.remove, name="remove"),
    path("bench/round/<int:record>/download/<str:filename>", views.download, name="download"),
]
