from django.urls import path

from ersatz.studio.handover import views

urlpatterns = [
    path("remakes/<number:pk>/handover/", views.handover, name="handover"),
    path("remakes/<number:pk>/export/", views.export, name="export"),
    path("remakes/<number:pk>/export/<slug:sha>/<slug:kind>/", views.download, name="download"),
]
