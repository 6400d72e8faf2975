from django.urls import path

from ersatz.studio.listen import views

urlpatterns = [
    path("reference/<int:pk>/<slug:key>/<int:first>-<int:last>.flac", views.reference_bars, name="listen-reference"),
    path("remake/<int:pk>/<slug:sha>/with/<slug:code>/<int:first>-<int:last>.flac", views.variant_bars, name="listen-variant"),
    path("remake/<int:pk>/<slug:sha>/<slug:part>/<slug:was>/<int:first>-<int:last>.flac", views.as_it_was, name="listen-was"),
    path("louder/<int:pk>/<slug:sha>/<slug:than>/<int:first>-<int:last>.json", views.louder, name="listen-louder"),
    path("peaks/<int:pk>/<slug:sha>/<str:owner>/<int:first>-<int:last>.json", views.peaks, name="listen-peaks"),
    path("remake/<int:pk>/<slug:sha>/<int:first>-<int:last>.flac", views.remake_bars, name="listen-remake"),
]
