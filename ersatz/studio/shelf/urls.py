from django.urls import path

from ersatz.studio.models import Reference, Remake
from ersatz.studio.shelf import views

urlpatterns = [
    path("", views.shelf, name="shelf"),
    path("references/upload/", views.upload, name="upload"),
    path("references/<int:pk>/row/", views.row, name="reference-row"),
    path("references/<int:pk>/rename/", views.rename, name="reference-rename"),
    path("references/<int:pk>/delete/", views.delete, {"model": Reference}, name="reference-delete"),
    path("references/<int:pk>/restore/", views.restore, {"model": Reference}, name="reference-restore"),
    path("references/<int:pk>/draft/", views.draft, name="draft"),
    path("references/<int:pk>/start-empty/", views.start_empty, name="start-empty"),
    path("remakes/<int:pk>/delete/", views.delete, {"model": Remake}, name="remake-delete"),
    path("remakes/<int:pk>/restore/", views.restore, {"model": Remake}, name="remake-restore"),
]
