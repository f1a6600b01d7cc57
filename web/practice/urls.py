from django.urls import path

from web.practice import views

app_name = "practice"
urlpatterns = [
    path("practice/", views.index, name="index"),
    path("practice/begin/<int:number>/", views.begin, name="begin"),
    path("practice/<int:run>/", views.page, name="run"),
    path("practice/<int:run>/do/", views.do, name="do"),
    path("practice/<int:run>/answer/", views.answer, name="answer"),
    path("practice/<int:run>/remove/", views.remove, name="remove"),
    path("practice/<int:run>/drill.json", views.download, name="download"),
]
