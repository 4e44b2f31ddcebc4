"""Ledgerman over plain HTTP, with Python's own urllib: load, change with the guard, meet a conflict, run a transaction, repeat safely."""
import json, os, time, urllib.error, urllib.request, uuid

BASE = os.environ["LEDGERMAN_URL"] + "/v1/targets/observatory"
TOKEN = os.environ["LEDGERMAN_TOKEN"]


class Problem(Exception):
    """A refusal: branch on `code`; what the code promises stands in `facts`."""

    def __init__(self, facts):
        super().__init__(facts["detail"])
        self.code, self.facts = facts["code"], facts


def call(method, path, body=None, **headers):
    """One call. What is too busy or away (429, 503) is asked again; it is safe for reads, and for writes with an idempotency key."""
    data = None if body is None else json.dumps(body).encode()
    headers = {"authorization": f"Bearer {TOKEN}", "content-type": "application/json", **headers}
    for attempt in range(5):
        try:
            with urllib.request.urlopen(urllib.request.Request(BASE + path, data, headers, method=method), timeout=60) as answer:
                return answer.headers, json.load(answer)
        except urllib.error.HTTPError as refused:
            problem = Problem(json.load(refused))
            may_repeat = method == "GET" or "idempotency-key" in headers
            if refused.code not in (429, 503) or not may_repeat or attempt == 4:
                raise problem
            time.sleep(float(refused.headers.get("retry-after", 1)))


programme = "/mappings/programme/records/P-107"
headers, loaded = call("GET", programme)
print(f"P-107 has {loaded['record']['hoursLeft']} hours left, guard {loaded['guard']}")

seen = {"if-match": headers["etag"]}
_, changed = call("PATCH", programme, {"set": {"hoursLeft": "14.50"}}, **seen)
print(f"changed: guard {changed['guard']}")

try:
    call("PATCH", programme, {"set": {"hoursLeft": "12.00"}}, **seen)
except Problem as problem:
    if problem.code != "record-changed":
        raise
    print(f"conflict: yours {problem.facts['yours']['hoursLeft']}, current {problem.facts['current']['hoursLeft']}")

once = {"idempotency-key": str(uuid.uuid4())}
run = {"mode": "commit", "transaction": "move-hours", "params": {"from": "P-107", "to": "P-112", "hours": "4"}}
for _ in range(2):
    _, receipt = call("POST", "/runs", run, **once)
    print("moved 4 hours" if not receipt["replayed"] else "the same run again: nothing was done twice")
