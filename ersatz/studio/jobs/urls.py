from django.urls import path

from ersatz.studio.jobs import views

urlpatterns = [
    path("<number:pk>/", views.status, name="job"),
    path("<number:pk>/cancel/", views.cancel, name="job-cancel"),
]
