from django.urls import path

from ersatz.studio.survey import views

urlpatterns = [
    path("references/<number:pk>/", views.survey, name="survey"),
    path("references/<number:pk>/correct/", views.correct, name="correct"),
    path("references/<number:pk>/survey.json", views.download, name="survey-json"),
    path("references/<number:pk>/kick.wav", views.kick, name="kick"),
    path("references/<number:pk>/sheet/", views.sheet, name="sheet"),
    path("references/<number:pk>/beside/<number:other>/", views.beside, name="beside"),
]
