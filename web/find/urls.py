from django.urls import path

from web.find import views

app_name = "find"
urlpatterns = [
    path("find/", views.find, name="find"),
    path("jobs/<int:job>/find/", views.find_in_job, name="in-job"),
]
