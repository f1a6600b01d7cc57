from django.urls import path

from web.sheets import exchange_views

app_name = "exchange"
urlpatterns = [
    path("import/", exchange_views.take_in, name="import"),
    path("import/confirm/", exchange_views.confirm, name="confirm"),
    path("jobs/<int:job>/loads/<int:load>/load.json", exchange_views.load_json, name="load-json"),
    path("jobs/<int:job>/documents/<str:kind>/", exchange_views.document, name="document"),
    path("jobs/<int:job>/package.zip", exchange_views.package, name="package"),
]
