from django.urls import path

from ersatz.studio.jobs import views

urlpatterns = [
    path("<int:pk>/", views.status, name="job"),
    path("<int:pk>/cancel/", views.cancel, name="job-cancel"),
]
