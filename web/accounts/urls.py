from django.urls import path

from web.accounts import second_step, views

app_name = "accounts"
urlpatterns = [
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-in/code/", second_step.code, name="code"),
    path("sign-out/", views.SignOut.as_view(), name="sign-out"),
    path("sign-up/", views.sign_up, name="sign-up"),
    path("account/", views.account, name="account"),
    path("account/password/", views.ChangePassword.as_view(), name="password"),
    path("account/second-step/", second_step.begin, name="second-step"),
    path("account/second-step/end/", second_step.end, name="second-step-end"),
    path("account/units/", views.units, name="units"),
    path("account/mail/", views.mail, name="mail"),
    path("account/delete/", views.delete, name="delete"),
    path("forgotten/", views.Forgotten.as_view(), name="forgotten"),
    path("forgotten/<uidb64>/<token>/", views.NewPassword.as_view(), name="new-password"),
]
