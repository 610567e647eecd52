"""Ten calls by a client that was generated from the OpenAPI document: python ten_calls.py ADDRESS PASSWORD DIRECTORY"""

import sys

from client import AuthenticatedClient, Client
from client.api.accounts import accounts, add_account, change_account
from client.api.destinations import add_destination, destinations
from client.api.enrolment import enrolment_codes, issue_code
from client.api.service import alerts, audit_log, service_info
from client.api.sessions import sign_in
from client.models import AccountChange, Carry, NewAccount, NewDestination, NewEnrolmentCode, Grants, Problem, Role, SignIn

address, password, directory = sys.argv[1:]
base = f"https://{address}"
anybody = Client(base_url=base, verify_ssl=False)

info = service_info.sync(client=anybody)
assert info.public_name == "localhost", info
signed_in = sign_in.sync(client=anybody, body=SignIn(login="ingrid", password=password, carry=Carry.TOKEN))
client = AuthenticatedClient(base_url=base, verify_ssl=False, token=signed_in.token)

added = add_destination.sync(
    client=client, body=NewDestination(name="Shelf", directory=directory, reserve=0, grants=Grants(everybody=True, logins=[], groups=[]))
)
assert added.name == "Shelf" and added.state == "ready", added
assert [one.id for one in destinations.sync(client=client).items] == [added.id]
account = add_account.sync(client=client, body=NewAccount(login="tove", role=Role.MEMBER))
changed = change_account.sync(account.id, client=client, body=AccountChange(display_name="Tove"))
assert changed.display_name == "Tove", changed
assert {one.login for one in accounts.sync(client=client).items} == {"ingrid", "tove"}
issued = issue_code.sync(client=client, body=NewEnrolmentCode(login="tove"))
assert issued.record.login == "tove" and issued.code, issued
assert len(enrolment_codes.sync(client=client).items) == 1
assert any(entry.what == "account added" for entry in audit_log.sync(client=client).items)
assert alerts.sync(client=client).alerts == []

refused = add_account.sync(client=client, body=NewAccount(login="tove", role=Role.MEMBER))
assert isinstance(refused, Problem) and refused.status == 409, refused
print("done")
