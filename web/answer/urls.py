from django.urls import path

from web.answer import views

app_name = "answer"
urlpatterns = [
    path("answer/", views.bar, name="bar"),
    path("answer/line/", views.line, name="line"),
]
