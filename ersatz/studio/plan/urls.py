from django.urls import path

from ersatz.studio.plan import views

urlpatterns = [
    path("remakes/<int:pk>/", views.plan, name="plan"),
    path("remakes/<int:pk>/edit/", views.edit, name="edit"),
    path("remakes/<int:pk>/undo/", views.undo, name="undo"),
    path("remakes/<int:pk>/redo/", views.redo, name="redo"),
    path("remakes/<int:pk>/return/<int:number>/", views.return_to, name="return-to"),
    path("remakes/<int:pk>/redraft/", views.redraft, name="redraft"),
]
