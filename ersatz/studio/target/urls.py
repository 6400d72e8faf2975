from django.urls import path

from ersatz.studio.target import views

urlpatterns = [
    path("targets/new/", views.new, name="target-new"),
    path("targets/<number:pk>/", views.target, name="target"),
    path("targets/<number:pk>/choose/", views.choose, name="target-choose"),
    path("targets/<number:pk>/target.json", views.download, name="target-json"),
]
