from django.urls import path

from ersatz.studio.plan import views

urlpatterns = [
    path("remakes/<number:pk>/", views.plan, name="plan"),
    path("remakes/<number:pk>/edit/", views.edit, name="edit"),
    path("remakes/<number:pk>/undo/", views.undo, name="undo"),
    path("remakes/<number:pk>/redo/", views.redo, name="redo"),
    path("remakes/<number:pk>/return/<number:number>/", views.return_to, name="return-to"),
    path("remakes/<number:pk>/milestones/<slug:what>/", views.milestone, name="milestone"),
    path("remakes/<number:pk>/now/", views.now, name="now"),
    path("remakes/<number:pk>/targets/<str:owner>/", views.targets, name="automation-targets"),
    path("remakes/<number:pk>/standing-still/", views.standing_still, name="standing-still"),
    path("remakes/<number:pk>/midi/", views.bring_midi, name="midi-bring"),
    path("remakes/<number:pk>/recover/", views.recover, name="recover"),
    path("remakes/<number:pk>/redraft/", views.redraft, name="redraft"),
]
