from django.urls import path

from web.supplies import views

app_name = "supplies"
urlpatterns = [
    path("supplies/", views.index, name="list"),
    path("supplies/add/", views.add, name="add"),
    path("supplies/<int:supply>/", views.edit, name="edit"),
    path("supplies/<int:supply>/remove/", views.remove, name="remove"),
]
