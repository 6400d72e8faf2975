from django.urls import path

from ersatz.studio.target import views

urlpatterns = [
    path("targets/new/", views.new, name="target-new"),
    path("targets/<int:pk>/", views.target, name="target"),
    path("targets/<int:pk>/choose/", views.choose, name="target-choose"),
    path("targets/<int:pk>/target.json", views.download, name="target-json"),
]
