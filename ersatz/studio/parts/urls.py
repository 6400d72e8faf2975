from django.urls import path

from ersatz.studio.parts import views

urlpatterns = [
    path("remakes/<number:pk>/parts/", views.first_part, name="parts"),
    path("remakes/<number:pk>/parts/<slug:part>/", views.part, name="part"),
    path("remakes/<number:pk>/parts/<slug:part>/notes/", views.notes, name="part-notes"),
    path("remakes/<number:pk>/parts/<slug:part>/patterns/<str:pattern>.mid", views.pattern_file, name="pattern-file"),
    path("remakes/<number:pk>/parts/<slug:part>/patterns/<str:pattern>/bring/", views.bring_pattern, name="pattern-bring"),
    path("remakes/<number:pk>/parts/<slug:part>/preview/", views.preview, name="part-preview"),
    path("remakes/<number:pk>/parts/<slug:part>/level/<number:place>/", views.bypass_level, name="part-bypass-level"),
    path("remakes/<number:pk>/parts/<slug:part>/save/", views.save, name="part-save"),
    path("remakes/<number:pk>/parts/<slug:part>/loop/<number:sample>/", views.loop_reading, name="loop-reading"),
    path("samples/", views.bring_sample, name="sample-bring"),
    path("listen/sample/<number:pk>.flac", views.own_sample, name="listen-sample"),
    path("sounds/forget/<slug:what>/<number:pk>/", views.forget, name="sound-forget"),
    path("listen/remake/<number:pk>/<slug:sha>/note/<slug:part>/<number:midi>.flac", views.note, name="listen-note"),
    path("listen/sound/<str:name>.flac", views.shipped, name="listen-sound"),
    path("listen/saved/<number:pk>.flac", views.saved, name="listen-saved"),
]
