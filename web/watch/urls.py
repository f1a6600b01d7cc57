from django.urls import path

from web.watch import views

app_name = "watch"
urlpatterns = [
    path("watch/", views.page, name="watch"),
    path("watch/begin/", views.begin, name="begin"),
    path("watch/rehearse/", views.rehearse, name="rehearse"),
    path("watch/rehearsed/<int:trial>/", views.rehearsed, name="rehearsed"),
    path("watch/change/", views.change, name="change"),
    path("watch/again/", views.again, name="again"),
    path("watch/switch/", views.switch, name="switch"),
    path("watch/charge/", views.charge, name="charge"),
    path("watch/step/", views.step, name="step"),
    path("watch/look/", views.look, name="look"),
    path("watch/chart/", views.chart, name="chart"),
    path("watch/may/", views.may, name="may"),
    path("watch/back/", views.back, name="back"),
    path("watch/card/", views.card, name="card"),
    path("watch/card/card.svg", views.card_svg, name="card-picture"),
]
