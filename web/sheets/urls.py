from django.urls import path

from web.sheets import views

app_name = "sheets"
urlpatterns = [
    path("sheet/", views.sheet, name="sheet"),
    path("sheet/tables.csv", views.tables, name="tables"),
    path("sheet/<str:paper>.pdf", views.pdf, name="pdf"),
]
