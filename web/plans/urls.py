from django.urls import path

from web.plans import views

app_name = "plans"
urlpatterns = [
    path("plan/", views.current, name="current"),
    path("plans/add/", views.add, name="add"),
    path("plans/<int:plan>/", views.plan_page, name="plan"),
    path("plans/<int:plan>/details/", views.edit, name="edit"),
    path("plans/<int:plan>/loads/<int:load>/", views.use_load, name="use-load"),
    path("plans/<int:plan>/current/", views.make_current, name="make-current"),
    path("plans/<int:plan>/remove/", views.remove, name="remove"),
    path("plans/<int:plan>/download/<str:form>", views.download, name="download"),
]
