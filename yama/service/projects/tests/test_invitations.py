"""Invitations: a link lets one person in, once, with the role that an owner chose; and passwords are changed by whom they are of."""

from datetime import timedelta

from django.contrib.auth.models import User
from django.test import Client, override_settings
from django.utils import timezone

from yama.service.projects.models import Invitation, Membership
from yama.service.tests.base import ServiceTest

_QUICK = override_settings(
    PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"]
)  # the others are slow by intent


@_QUICK
class InvitationTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.as_role("owner")

    def invite(self, role="editor") -> str:
        made = self.ask("POST", "/invitations", {"role": role}, 201)
        self.assertRegex(made["path"], r"^/invited/[\w-]{32}$")
        return made["path"].split("/")[2]

    def accept(self, token, new=None, client=None):
        body = (
            {}
            if new is None
            else {"new": {"name": "mire", "full_name": "Mire Sand", "password": "a fine long word", **new}}
        )
        return (client or Client()).post(f"/api/invitations/{token}/accept", body, content_type="application/json")

    def role_of(self, name):
        return Membership.objects.get(project=self.project, user__username=name).role

    def test_somebody_new_makes_an_account_on_the_way(self):
        token = self.invite()
        client = Client()
        told = client.get(f"/api/invitations/{token}").json()
        self.assertEqual(told, {"project": "Avel", "role": "editor", "invited_by": "owner"})
        self.assertIn(client.get(f"/invited/{token}").status_code, (200, 503))  # the desk, where it is built
        self.assertEqual(self.accept(token, {}, client).json(), {"project_id": self.project.pk})
        told = client.get("/api/accounts/me").json()
        self.assertIsInstance(told.pop("id"), int)
        self.assertEqual(told, {"name": "Mire Sand", "initials": "MS", "has_password": True})
        self.assertEqual(client.get(f"{self.base}/holdings").status_code, 200)
        self.assertEqual(self.role_of("mire"), "editor")
        # once
        self.assertEqual(self.accept(token, {"name": "other"}).status_code, 404)
        self.assertIn("Ask whoever sent it", client.get(f"/api/invitations/{token}").json()["detail"])
        # and by password afterwards
        other = Client()
        signed = other.post(
            "/api/accounts/sign-in", {"name": "mire", "password": "a fine long word"}, content_type="application/json"
        )
        self.assertEqual(signed.status_code, 200)

    def test_somebody_with_an_account_comes_in_as_who_they_are(self):
        token = self.invite("viewer")
        self.assertEqual(self.accept(token).status_code, 401)
        client = Client()
        client.force_login(self.people["outsider"])
        self.assertEqual(self.accept(token, client=client).status_code, 200)
        self.assertEqual(self.role_of("outsider"), "viewer")

    def test_a_role_is_raised_and_never_lowered(self):
        client = Client()
        client.force_login(self.people["editor"])
        for role, then in (("viewer", "editor"), ("owner", "owner"), ("editor", "owner")):
            self.assertEqual(self.accept(self.invite(role), client=client).status_code, 200)
            self.assertEqual(self.role_of("editor"), then)

    def test_what_cannot_be_an_account_is_refused_and_the_link_stays(self):
        token = self.invite()
        for new, status, words in (
            ({"name": "owner"}, 409, "user name already"),
            ({"name": "OWNER"}, 409, "user name already"),
            ({"password": "short"}, 422, "too short"),
            ({"password": "password123"}, 422, "too common"),
            ({"name": "a b"}, 422, ""),
            ({"name": ""}, 422, ""),
        ):
            answer = self.accept(token, new)
            self.assertEqual(answer.status_code, status, answer.content)
            self.assertIn(words, answer.json()["detail"])
        self.assertEqual(User.objects.filter(username="mire").count(), 0)
        self.assertEqual(self.accept(token, {}).status_code, 200)

    def test_it_can_be_taken_back_and_ends_after_a_week(self):
        token, other = self.invite(), self.invite("viewer")
        listed = self.ask("GET", "/invitations")
        self.assertEqual([one["role"] for one in listed], ["viewer", "editor"])
        self.assertNotIn("path", listed[0])
        self.ask("DELETE", f"/invitations/{listed[1]['id']}", status=204)
        self.assertEqual(self.accept(token, {}).status_code, 404)
        Invitation.objects.update(expires_at=timezone.now() - timedelta(seconds=1))
        self.assertEqual(self.accept(other, {}).status_code, 404)
        self.assertEqual(self.ask("GET", "/invitations"), [])
        self.invite()
        self.assertEqual(Invitation.objects.count(), 1)  # what was too old is gone

    def test_tokens_are_not_kept_and_guessing_is_stopped(self):
        token = self.invite()
        self.assertFalse(Invitation.objects.filter(digest__contains=token).exists())
        codes = [Client().get(f"/api/invitations/{'x' * 20}{i}").status_code for i in range(70)]
        self.assertEqual((codes[0], codes[-1]), (404, 429))


@_QUICK
class PasswordTest(ServiceTest):
    def change(self, client, now, new):
        return client.post("/api/accounts/password", {"now": now, "new": new}, content_type="application/json")

    def test_it_is_changed_by_whoever_knows_it_and_other_sessions_end(self):
        user = self.people["editor"]
        user.set_password("the old long word")
        user.save()
        here, there = Client(), Client()
        for client in (here, there):
            client.post(
                "/api/accounts/sign-in",
                {"name": "editor", "password": "the old long word"},
                content_type="application/json",
            )
        self.assertEqual(self.change(here, "another", "a new long word").status_code, 403)
        self.assertIn("too short", self.change(here, "the old long word", "tiny").json()["detail"])
        self.assertEqual(self.change(here, "the old long word", "a new long word").status_code, 204)
        self.assertEqual(here.get("/api/accounts/me").status_code, 200)
        self.assertEqual(there.get("/api/accounts/me").status_code, 401)
        self.assertTrue(User.objects.get(username="editor").check_password("a new long word"))

    def test_who_came_by_a_link_sets_a_first_one(self):
        user = self.people["viewer"]
        user.set_unusable_password()
        user.save()
        self.as_role("viewer")
        self.assertFalse(self.client.get("/api/accounts/me").json()["has_password"])
        self.assertEqual(self.change(self.client, "", "a first long word").status_code, 204)
        self.assertTrue(self.client.get("/api/accounts/me").json()["has_password"])

    def test_it_cannot_be_guessed_from_an_open_session(self):
        user = self.people["viewer"]
        user.set_password("the old long word")
        user.save()
        self.client.force_login(user)
        codes = [self.change(self.client, f"guess {i}", "a new long word").status_code for i in range(8)]
        self.assertEqual(codes, [403] * 6 + [429] * 2)
        self.assertEqual(
            Client().post("/api/accounts/password", {"new": "x"}, content_type="application/json").status_code, 401
        )
