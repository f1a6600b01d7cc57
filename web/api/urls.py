from django.contrib.auth.decorators import login_not_required
from django.urls import include, path, register_converter
from django.urls.converters import StringConverter
from drf_spectacular.views import SpectacularJSONAPIView, SpectacularSwaggerSplitView

from web.api import pages, running, views
from web.api.samples import Samples


class WhichConverter(StringConverter):
    """A plan's number, or the current one."""

    regex = rf"\d{{1,15}}|{views.CURRENT}"


register_converter(WhichConverter, "which")
app_name = "api"
_DOCS = login_not_required(SpectacularSwaggerSplitView.as_view(url_name="api:openapi"))
_V1 = [
    path("", _DOCS, name="docs"),
    path("openapi.json", login_not_required(SpectacularJSONAPIView.as_view()), name="openapi"),
    path("job/", views.JobDetails.as_view(), name="job"),
    path("loads/", views.Loads.as_view(), name="loads"),
    path("loads/<int:load>/", views.LoadDocument.as_view(), name="load"),
    path("loads/<int:load>/profile/", views.LoadProfile.as_view(), name="profile"),
    path("loads/<int:load>/readings/", views.Readings.as_view(), name="readings"),
    path("loads/<int:load>/captures/", views.LoadCaptures.as_view(), name="load-captures"),
    path("captures/", views.Captures.as_view(), name="captures"),
    path("captures/<int:capture>/", views.CaptureAnalysis.as_view(), name="capture"),
    path("captures/<int:capture>/samples.csv", views.CaptureSamples.as_view(), name="csv"),
    path("samples/", Samples.as_view(), name="samples"),
    path("supplies/", views.Supplies.as_view(), name="supplies"),
    path("supplies/<int:supply>/", views.SupplyDocument.as_view(), name="supply"),
    path("plans/", views.Plans.as_view(), name="plans"),
    path("plans/<which:plan>/", views.PlanDocument.as_view(), name="plan"),
    path("plans/<which:plan>/answer/", views.PlanAnswer.as_view(), name="answer"),
    path("trials/", running.Trials.as_view(), name="trials"),
    path("trials/<int:trial>/", running.TrialDocument.as_view(), name="trial"),
    path("trials/<int:trial>/forecast/", running.TrialForecast.as_view(), name="forecast"),
    path("trials/<int:trial>/check-ins/", running.CheckIns.as_view(), name="check-ins"),
    path("watch/", running.Watch.as_view(), name="watch"),
    path("rounds/", running.Rounds.as_view(), name="rounds"),
    path("rounds/<int:record>/", running.RoundDocument.as_view(), name="round"),
]
urlpatterns = [
    path("api/v1/", include(_V1)),
    # Where loggers sent before there was more than samples.
    path("api/samples/", Samples.as_view(schema=None), name="old-samples"),
    path("jobs/<int:job>/programs/", pages.index, name="programs"),
    path("jobs/<int:job>/programs/<int:pk>/revoke/", pages.revoke, name="revoke"),
]
