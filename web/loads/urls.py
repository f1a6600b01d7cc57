from django.urls import path

from web.loads import combined, views, walk_views

app_name = "loads"
urlpatterns = [
    path("survey/", views.survey_page, name="survey"),
    path("loads/add/", views.add, name="add"),
    path("loads/together/", combined.combined_list, name="combined"),
    path("loads/together/<int:reading>/remove/", combined.remove_combined, name="remove-combined"),
    path("loads/walk/", walk_views.walk, name="walk"),
    path("loads/walk/paste/", walk_views.paste, name="paste"),
    path("loads/<int:load>/same-again/", walk_views.same_again, name="same-again"),
    path("loads/shelf/", views.shelf, name="shelf"),
    path("loads/<int:load>/", views.load_page, name="load"),
    path("loads/<int:load>/details/", views.edit, name="edit"),
    path("loads/<int:load>/remove/", views.remove, name="remove"),
    path("loads/<int:load>/put-off/", views.put_off, name="put-off"),
    path("loads/<int:load>/readings/<int:reading>/", views.edit_reading, name="edit-reading"),
    path(
        "loads/<int:load>/readings/<int:reading>/remove/",
        views.remove_reading,
        name="remove-reading",
    ),
    path("loads/<int:load>/photos/<int:photo>/remove/", views.remove_photo, name="remove-photo"),
    path("loads/<int:load>/photos/<int:photo>/<slug:size>.jpg", views.photo, name="photo"),
    path("loads/<int:load>/readings/<slug:kind>/", views.add_reading, name="add-reading"),
]
