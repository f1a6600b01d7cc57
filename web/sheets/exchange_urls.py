from django.urls import path

from web.sheets import exchange_views

app_name = "exchange"
urlpatterns = [
    path("import/", exchange_views.take_in, name="import"),
    path("import/confirm/", exchange_views.confirm, name="confirm"),
    path("jobs/<int:job>/package.zip", exchange_views.package, name="package"),
]
