"""The lost baggage desk: fetches what was lost off the queue "baggage", and answers. Python's standard library alone."""

import json
import os
import time
import urllib.error
import urllib.request

SHELF = {"umbrella": "on the hook by the door", "suitcase": "under the stairs", "scarf": "on the second shelf"}


def ask(what, **body):
    request = urllib.request.Request(
        f'{os.environ["WOBBET_URL"]}/api/v1/queues/baggage/{what}',
        json.dumps(body).encode(),
        {"authorization": f'Bearer {os.environ["WOBBET_TOKEN"]}', "content-type": "application/json"},
    )
    with urllib.request.urlopen(request, timeout=60) as answer:
        return json.load(answer)


def found(thing):
    for what, where in SHELF.items():
        if what in thing.lower():
            return f"Good news: **{what}** found, {where}. Ask for it at the ticket window."
    return f"No {thing} has come in yet. We write it down, and keep our eyes open."


def main():
    while True:
        try:
            for item in ask("lease", wait=20)["items"]:
                turn = item["turn"]
                thing = str(turn["slots"].get("thing", "luggage"))
                time.sleep(1)
                state = {**turn["state"], "topic": "baggage"}
                ask("finish", lease=item["lease"], replies=[found(thing)], state=state)
        except urllib.error.HTTPError as refused:
            # Somebody else has answered it, or nobody waits any more.
            if refused.code != 409:
                time.sleep(2)
        except OSError:
            time.sleep(2)


main()
