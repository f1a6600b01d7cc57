from django.urls import path

from web.house import views

app_name = "house"
urlpatterns = [
    path("loads/house/", views.index, name="index"),
    path("loads/house/<int:record>/remove/", views.remove, name="remove"),
]
