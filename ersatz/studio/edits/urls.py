from django.urls import path

from ersatz.studio.edits import views

urlpatterns = [
    path("remakes/<number:pk>/edit/", views.edit, name="edit"),
    path("remakes/<number:pk>/undo/", views.step, {"by": -1}, name="undo"),
    path("remakes/<number:pk>/redo/", views.step, {"by": 1}, name="redo"),
    path("remakes/<number:pk>/return/<number:number>/", views.return_to, name="return-to"),
    path("remakes/<number:pk>/milestones/<slug:what>/", views.milestone, name="milestone"),
]
