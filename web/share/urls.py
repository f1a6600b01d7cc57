from django.urls import path

from web.share import reader, views

app_name = "share"
urlpatterns = [
    path("s/<str:token>/", reader.reader, name="reader"),
    path("s/<str:token>/photos/<int:photo>.jpg", reader.photo, name="photo"),
    path("jobs/<int:job>/share/", views.links, name="links"),
    path("jobs/<int:job>/share/<int:link>/revoke/", views.revoke, name="revoke"),
    path("jobs/<int:job>/inbox/", views.inbox, name="inbox"),
    path("jobs/<int:job>/inbox/<int:proposal>/accept/", views.accept, name="accept"),
    path("jobs/<int:job>/inbox/<int:proposal>/aside/", views.set_aside, name="aside"),
    path("jobs/<int:job>/inbox/<int:proposal>/photo.jpg", views.picture, name="picture"),
]
