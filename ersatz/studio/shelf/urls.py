from django.urls import path

from ersatz.studio.models import Reference, Remake
from ersatz.studio.shelf import views

urlpatterns = [
    path("", views.shelf, name="shelf"),
    path("references/upload/", views.upload, name="upload"),
    path("references/<number:pk>/row/", views.row, name="reference-row"),
    path("references/<number:pk>/rename/", views.rename, name="reference-rename"),
    path("references/<number:pk>/delete/", views.delete, {"model": Reference}, name="reference-delete"),
    path("references/<number:pk>/restore/", views.restore, {"model": Reference}, name="reference-restore"),
    path("references/<number:pk>/survey-again/", views.resurvey, name="resurvey"),
    path("references/<number:pk>/draft/", views.draft, name="draft"),
    path("references/<number:pk>/start-empty/", views.start_empty, name="start-empty"),
    path("remakes/<number:pk>/delete/", views.delete, {"model": Remake}, name="remake-delete"),
    path("remakes/<number:pk>/restore/", views.restore, {"model": Remake}, name="remake-restore"),
]
