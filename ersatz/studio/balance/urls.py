from django.urls import path

from ersatz.studio.balance import views

PAGE = "remakes/<number:pk>/balance/"
SONG = "listen/remake/<number:pk>/<slug:sha>/"
BARS = "<number:first>-<number:last>"

urlpatterns = [
    path(PAGE, views.balance, name="balance"),
    path(f"{PAGE}solve/", views.solve, name="balance-solve"),
    path(f"{PAGE}state/", views.now, name="balance-state"),
    path(f"{PAGE}fit/", views.fit, name="balance-fit"),
    path(f"{PAGE}preview/", views.preview, name="balance-preview"),
    path(f"{PAGE}level/<str:strip>/<number:place>/", views.bypass_level, name="balance-bypass-level"),
    path(f"{PAGE}level/<str:strip>/", views.chain_level, name="balance-chain-level"),
    path(f"{PAGE}chain/<str:strip>/", views.keep_chain, name="balance-keep-chain"),
    path(f"{SONG}strip/<str:strip>/{BARS}.flac", views.strip_bars, name="listen-strip"),
    path(f"{SONG}send/<str:strip>/<str:to>/{BARS}.flac", views.send_bars, name="listen-send"),
    path(f"{SONG}lanes/{BARS}.json", views.lanes, name="listen-lanes"),
    path(f"{SONG}fine/<str:strip>/{BARS}.json", views.fine, name="listen-fine"),
    path(f"{SONG}clashes/<number:section>.json", views.clashes, name="listen-clashes"),
    path(f"{SONG}with/<slug:code>/louder/{BARS}.json", views.louder_variant, name="listen-louder-variant"),
    path(f"{SONG}meters/{BARS}.json", views.meters, name="listen-meters"),
    path(f"{SONG}reductions/<str:strip>/{BARS}.json", views.reductions, name="listen-reductions"),
]
