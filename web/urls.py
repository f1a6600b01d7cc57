"""All addresses of the site."""

from django.urls import include, path

urlpatterns = [
    path("", include("web.jobs.urls")),
    path("", include("web.accounts.urls")),
    path("", include("web.meters.urls")),
    path("", include("web.practice.urls")),
    path("", include("web.common.urls")),
    path("", include("web.demo.urls")),
    path("", include("web.offline.urls")),
    path("", include("web.share.urls")),
    path("", include("web.api.urls")),
    path("jobs/<int:job>/", include("web.outward.urls")),
    path("jobs/<int:job>/", include("web.loads.urls")),
    path("jobs/<int:job>/", include("web.house.urls")),
    path("jobs/<int:job>/", include("web.bench.urls")),
    path("jobs/<int:job>/", include("web.supplies.urls")),
    path("jobs/<int:job>/", include("web.plans.urls")),
    path("jobs/<int:job>/", include("web.matching.urls")),
    path("jobs/<int:job>/", include("web.trials.urls")),
    path("jobs/<int:job>/", include("web.watch.urls")),
    path("jobs/<int:job>/", include("web.rounds.urls")),
    path("jobs/<int:job>/", include("web.answer.urls")),
    path("jobs/<int:job>/", include("web.sheets.urls")),
    path("", include("web.sheets.exchange_urls")),
    path("", include("web.find.urls")),
]

handler500 = "web.common.views.failed"
handler404 = "web.common.views.not_found"
