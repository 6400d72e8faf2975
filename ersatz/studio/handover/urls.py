from django.urls import path

from ersatz.studio.handover import views

urlpatterns = [
    path("remakes/<int:pk>/handover/", views.handover, name="handover"),
    path("remakes/<int:pk>/export/", views.export, name="export"),
    path("remakes/<int:pk>/export/<slug:sha>/<slug:kind>/", views.download, name="download"),
]
