"""Signing in: passwords with a limit on tries, links that work once, requests that prove where they come from."""

from datetime import timedelta
from unittest import mock

from django.contrib.auth.models import User
from django.core.cache import cache
from django.test import Client, TransactionTestCase, override_settings

from yama.service.accounts.models import OneTimeLink


@override_settings(
    PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"]
)  # dozens of tries, each slow by intent
class SignInTest(TransactionTestCase):
    def setUp(self):
        cache.clear()
        self.user = User.objects.create_user(
            "ines", password="a fine long password", first_name="Ines", last_name="Marr"
        )

    def sign_in(self, password, client=None, name="ines"):
        body = {"name": name, "password": password}
        return (client or self.client).post("/api/accounts/sign-in", body, content_type="application/json")

    def test_the_right_password_opens_a_session_and_signing_out_ends_it(self):
        self.assertEqual(self.client.get("/api/accounts/me").status_code, 401)
        told = self.sign_in("a fine long password").json()
        self.assertIsInstance(told.pop("id"), int)
        self.assertEqual(told, {"name": "Ines Marr", "initials": "IM", "has_password": True})
        self.assertEqual(self.client.get("/api/accounts/me").json()["initials"], "IM")
        self.assertEqual(self.client.post("/api/accounts/sign-out").status_code, 204)
        self.assertEqual(self.client.get("/api/accounts/me").status_code, 401)

    def test_guessing_is_stopped_even_with_the_right_password(self):
        for _ in range(6):
            self.assertEqual(self.sign_in("wrong").status_code, 401)
        for password in ("wrong", "a fine long password"):
            response = self.sign_in(password)
            self.assertEqual(response.status_code, 429)
            self.assertIn("Wait ten minutes", response.json()["detail"])

    def test_guessing_many_names_from_one_place_is_stopped(self):
        with mock.patch("yama.service.accounts.api._TRIES_OF_ADDRESS", 6):
            codes = [self.sign_in("wrong", name=f"person {i}").status_code for i in range(8)]
        self.assertEqual(codes, [401] * 6 + [429] * 2)

    def test_who_guesses_elsewhere_shuts_nobody_out(self):
        def sign_in(password, address):
            """Through the front, whose socket has no address of its own."""
            return self.client.post(
                "/api/accounts/sign-in", {"name": "ines", "password": password}, content_type="application/json",
                headers={"X-Real-IP": address}, REMOTE_ADDR="",
            ).status_code  # fmt: skip

        self.assertEqual([sign_in("wrong", "10.0.0.7") for _ in range(8)], [401] * 6 + [429] * 2)
        self.assertEqual(sign_in("a fine long password", "10.0.0.8"), 200)

    def test_only_the_front_says_where_a_client_is(self):
        codes = [
            self.client.post(
                "/api/accounts/sign-in", {"name": "ines", "password": "wrong"}, content_type="application/json",
                headers={"X-Real-IP": f"10.0.0.{i}"},
            ).status_code
            for i in range(8)
        ]  # fmt: skip
        self.assertEqual(codes, [401] * 6 + [429] * 2)

    def test_an_unknown_name_gets_the_same_answer(self):
        self.assertEqual(self.sign_in("x").json(), self.sign_in("x", name="nobody").json())

    def test_requests_without_the_cookies_token_are_refused(self):
        strict = Client(enforce_csrf_checks=True)
        self.assertEqual(self.sign_in("a fine long password", strict).status_code, 403)
        strict.force_login(self.user)
        self.assertEqual(strict.post("/api/accounts/sign-out").status_code, 403)
        self.assertEqual(strict.get("/api/accounts/me").status_code, 200)


class LinkTest(TransactionTestCase):
    def setUp(self):
        self.user = User.objects.create_user("ines")

    def test_a_link_works_once(self):
        token = OneTimeLink.issue(self.user)
        self.assertNotIn(token, OneTimeLink.objects.get().digest)
        self.assertEqual(self.client.get(f"/enter/{token}").headers["Location"], "/")
        self.assertEqual(self.client.get("/api/accounts/me").status_code, 200)
        other = Client()
        self.assertEqual(other.get(f"/enter/{token}").headers["Location"], "/?link=spent")
        self.assertEqual(other.get("/api/accounts/me").status_code, 401)

    def test_an_old_link_and_a_made_up_one_do_not_work(self):
        token = OneTimeLink.issue(self.user, timedelta(seconds=-1))
        for word in (token, "made-up"):
            self.assertEqual(self.client.get(f"/enter/{word}").headers["Location"], "/?link=spent")
            self.assertEqual(self.client.get("/api/accounts/me").status_code, 401)

    def test_somebody_who_left_cannot_use_a_link(self):
        token = OneTimeLink.issue(self.user)
        User.objects.update(is_active=False)
        self.assertEqual(self.client.get(f"/enter/{token}").headers["Location"], "/?link=spent")
