from django.urls import path

from web.supplies import views

app_name = "supplies"
urlpatterns = [
    path("supplies/", views.index, name="list"),
    path("supplies/add/", views.add, name="add"),
    path("supplies/comes-to/", views.comes_to, name="comes-to"),
    path("supplies/<int:supply>/", views.page, name="supply"),
    path("supplies/<int:supply>/edit/", views.edit, name="edit"),
    path("supplies/<int:supply>/remove/", views.remove, name="remove"),
    path("supplies/<int:supply>/tests/<str:kind>/", views.test, name="test"),
    path("supplies/<int:supply>/tests/<int:test>/remove/", views.remove_test, name="remove-test"),
    path("supplies/<int:supply>/<str:side>s/add/", views.add_part, name="add-part"),
    path("supplies/<int:supply>/<str:side>s/<int:part>/", views.edit_part, name="edit-part"),
    path(
        "supplies/<int:supply>/<str:side>s/<int:part>/remove/",
        views.remove_part,
        name="remove-part",
    ),
]
