from django.urls import path

from web.demo import views

app_name = "demo"
urlpatterns = [path("look-around/", views.look_around, name="look-around")]
