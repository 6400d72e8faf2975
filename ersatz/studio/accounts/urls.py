from django.contrib.auth import views
from django.urls import path

urlpatterns = [
    path("sign-in/", views.LoginView.as_view(template_name="studio/sign_in.html"), name="login"),
    path("sign-out/", views.LogoutView.as_view(), name="logout"),
]
