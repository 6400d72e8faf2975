from django.urls import path

from ersatz.studio.survey import views

urlpatterns = [
    path("references/<int:pk>/", views.survey, name="survey"),
    path("references/<int:pk>/correct/", views.correct, name="correct"),
    path("references/<int:pk>/survey.json", views.download, name="survey-json"),
    path("references/<int:pk>/kick.wav", views.kick, name="kick"),
    path("references/<int:pk>/sheet/", views.sheet, name="sheet"),
    path("references/<int:pk>/beside/<int:other>/", views.beside, name="beside"),
]
