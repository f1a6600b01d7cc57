from django.urls import path, register_converter
from django.urls.converters import StringConverter

from web.plans import trying, views


class HolderConverter(StringConverter):
    """The owner of a block: the loads or the sources of a plan."""

    regex = "|".join(trying.HOLDERS)


register_converter(HolderConverter, "holder")
app_name = "plans"
_BLOCK = "plans/<int:plan>/<holder:of>/<int:key>/blocks/<int:index>"
urlpatterns = [
    path("plan/", views.current, name="current"),
    path("plans/add/", views.add, name="add"),
    path("supplies/alone/", views.alone, name="alone"),
    path("plans/<int:plan>/", views.plan_page, name="plan"),
    path("plans/<int:plan>/details/", views.edit, name="edit"),
    path("plans/<int:plan>/copy/", views.copy, name="copy"),
    path("plans/<int:plan>/loads/<int:load>/", views.use_load, name="use-load"),
    path("plans/<int:plan>/loads/<int:load>/details/", views.entry, name="entry"),
    path("plans/<int:plan>/loads/<int:load>/row/", views.row, name="row"),
    path("plans/<int:plan>/sources/add/<str:kind>/", views.add_source, name="add-source"),
    path("plans/<int:plan>/sources/<int:source>/", views.source, name="source"),
    path(
        "plans/<int:plan>/sources/<int:source>/remove/", views.remove_source, name="remove-source"
    ),
    path(f"{_BLOCK}/move/", trying.move_block, name="move-block"),
    path(f"{_BLOCK}/copy/", trying.copy_block, name="copy-block"),
    path(f"{_BLOCK}/remove/", trying.remove_block, name="remove-block"),
    path("plans/<int:plan>/what-if/", trying.what_if, name="what-if"),
    path("plans/<int:plan>/what-if/keep/", trying.keep_what_if, name="keep-what-if"),
    path("plans/<int:plan>/proposal/", views.proposal, name="proposal"),
    path("plans/<int:plan>/lanes/", views.lanes_of_plan, name="lanes"),
    path("plans/<int:plan>/place/", views.place, name="place"),
    path("plans/<int:plan>/help/", views.apply_help, name="help"),
    path("plans/<int:plan>/sizes/", views.sizes, name="sizes"),
    path("plans/<int:plan>/rests/", views.rests, name="rests"),
    path("plans/<int:plan>/compare/", views.compare, name="compare"),
    path("plans/<int:plan>/current/", views.make_current, name="make-current"),
    path("plans/<int:plan>/remove/", views.remove, name="remove"),
    path("plans/<int:plan>/download/<str:filename>", views.download, name="download"),
]
