from django.urls import path
from django.views.generic import RedirectView

from web.jobs import people_views as people
from web.jobs import views

app_name = "jobs"
urlpatterns = [
    path("", RedirectView.as_view(pattern_name="jobs:list"), name="home"),
    path("jobs/", views.index, name="list"),
    path("jobs/<int:job>/restore/", views.restore, name="restore"),
    path("jobs/<int:job>/details/", views.edit, name="edit"),
    path("jobs/<int:job>/delete/", views.delete, name="delete"),
    path("jobs/<int:job>/remove/", views.remove, name="remove"),
    path("jobs/<int:job>/undo/<int:change>/", views.undo, name="undo"),
    path("jobs/<int:job>/changes/", people.changes, name="changes"),
    path("jobs/<int:job>/people/", people.index, name="people"),
    path("jobs/<int:job>/people/leave/", people.leave, name="leave"),
    path("jobs/<int:job>/people/<int:member>/role/", people.change_role, name="role"),
    path("jobs/<int:job>/people/<int:member>/remove/", people.remove_member, name="member"),
    path("jobs/<int:job>/people/<int:invitation>/withdraw/", people.withdraw, name="withdraw"),
    path("join/<str:token>/", people.join, name="join"),
    path("invitations/<int:invitation>/", people.answer_invitation, name="invitation"),
]
