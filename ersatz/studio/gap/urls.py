from django.urls import path

from ersatz.studio.gap import views

urlpatterns = [
    path("remakes/<number:pk>/gap/", views.gap, name="gap"),
    path("remakes/<number:pk>/gap/moves/", views.moves, name="gap-moves"),
    path("remakes/<number:pk>/gap/own/", views.own, name="gap-own"),
]
