from django.urls import path

from web.meters import views

app_name = "meters"
urlpatterns = [
    path("meters/", views.index, name="list"),
    path("meters/new/", views.add, name="add"),
    path("meters/<int:meter>/", views.edit, name="edit"),
    path("meters/<int:meter>/compare/", views.compare, name="compare"),
    path("meters/<int:meter>/remove/", views.remove, name="remove"),
    path("meters/<int:meter>/back/", views.bring_back, name="bring-back"),
]
