from django.urls import path

from ersatz.studio.survey import views

urlpatterns = [
    path("references/<int:pk>/", views.survey, name="survey"),
    path("references/<int:pk>/correct/", views.correct, name="correct"),
    path("references/<int:pk>/survey.json", views.download, name="survey-json"),
]
