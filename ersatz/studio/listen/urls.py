from django.urls import path

from ersatz.studio.listen import views

BARS = "<number:first>-<number:last>"
REMAKE = "remake/<number:pk>/<slug:sha>"

urlpatterns = [
    path(f"reference/<number:pk>/<slug:key>/{BARS}.flac", views.reference_bars, name="listen-reference"),
    path(f"{REMAKE}/with/<slug:code>/{BARS}.flac", views.variant_bars, name="listen-variant"),
    path(f"{REMAKE}/was/<slug:was>/<slug:part>/{BARS}.flac", views.as_it_was, name="listen-was"),
    path(f"{REMAKE}/than/<slug:than>/{BARS}.json", views.louder, name="listen-louder"),
    path(f"{REMAKE}/peaks/<str:owner>/{BARS}.json", views.peaks, name="listen-peaks"),
    path(f"{REMAKE}/{BARS}.flac", views.remake_bars, name="listen-remake"),
]
