from django.urls import path

from ersatz.studio.plan import drafts, views

urlpatterns = [
    path("remakes/<number:pk>/", views.plan, name="plan"),
    path("remakes/<number:pk>/now/", views.now, name="now"),
    path("remakes/<number:pk>/targets/<str:owner>/", views.targets, name="automation-targets"),
    path("remakes/<number:pk>/standing-still/", views.standing_still, name="standing-still"),
    path("remakes/<number:pk>/midi/", views.bring_midi, name="midi-bring"),
    path("remakes/<number:pk>/recover/", views.recover, name="recover"),
    path("remakes/<number:pk>/redraft/", views.redraft, name="redraft"),
    path("remakes/<number:pk>/drafts/", drafts.others, name="other-drafts"),
    path("remakes/<number:pk>/drafts/add/", drafts.add_other, name="add-draft"),
    path("remakes/<number:pk>/drafts/<number:draft>/", drafts.other, name="other-draft"),
]
