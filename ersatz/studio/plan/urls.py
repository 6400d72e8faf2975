from django.urls import path

from ersatz.studio.plan import views

urlpatterns = [
    path("remakes/<int:pk>/", views.plan, name="plan"),
    path("remakes/<int:pk>/edit/", views.edit, name="edit"),
    path("remakes/<int:pk>/undo/", views.undo, name="undo"),
    path("remakes/<int:pk>/redo/", views.redo, name="redo"),
    path("remakes/<int:pk>/return/<int:number>/", views.return_to, name="return-to"),
    path("remakes/<int:pk>/milestones/<slug:what>/", views.milestone, name="milestone"),
    path("remakes/<int:pk>/now/", views.now, name="now"),
    path("remakes/<int:pk>/targets/<str:owner>/", views.targets, name="automation-targets"),
    path("remakes/<int:pk>/standing-still/", views.standing_still, name="standing-still"),
    path("remakes/<int:pk>/midi/", views.bring_midi, name="midi-bring"),
    path("remakes/<int:pk>/redraft/", views.redraft, name="redraft"),
]
