from django.urls import path

from web.bench import views

app_name = "bench"
urlpatterns = [
    path("bench/", views.index, name="index"),
    path("bench/loggers/", views.logger_list, name="loggers"),
    path("bench/loggers/<int:logger>/revoke/", views.revoke_logger, name="revoke"),
    path("bench/loggers/<int:logger>/collect/", views.collect_logger, name="collect"),
    path("bench/meter/<int:load>/", views.keep_meter, name="keep-meter"),
    path("bench/meter/<int:load>/check/", views.check_meter, name="check-meter"),
    path("bench/<int:session>/", views.session, name="session"),
    path("bench/<int:session>/keep/", views.keep_spot, name="keep-spot"),
    path("bench/<int:session>/keep-start/", views.keep_start, name="keep-start"),
    path("bench/<int:session>/keep-counter/", views.keep_counter, name="keep-counter"),
    path("bench/<int:session>/reset/", views.reset, name="reset"),
    path("bench/<int:session>/speed/", views.speed, name="speed"),
    path("bench/<int:session>/tally/", views.tally, name="tally"),
    path("bench/<int:session>/stop/", views.stop, name="stop"),
    path("loads/<int:load>/import/", views.upload, name="upload"),
    path("captures/<int:capture>/", views.capture, name="capture"),
    path("captures/<int:capture>/keep/", views.keep, name="keep"),
    path("captures/<int:capture>/levels/", views.levels, name="levels"),
    path("captures/<int:capture>/discard/", views.discard, name="discard"),
    path("captures/<int:capture>/series/", views.series, name="series"),
    path("captures/<int:capture>/download/<str:filename>", views.download, name="download"),
]
