"""Bad requests to a running engine: python3 fuzz_engine.py ADDRESS COUNT [SEED]. Each gets an answer with a reason; what
is not HTTP gets one too, or its connection is closed. Prints how many of each status there were."""
import http.client
import json
import random
import socket
import sys

address, count = sys.argv[1], int(sys.argv[2])
rng = random.Random(int(sys.argv[3]) if len(sys.argv) > 3 else 7)
host = address.split("//")[1]


def fetch(path):
    connection = http.client.HTTPConnection(host, timeout=20)
    connection.request("GET", path)
    return json.loads(connection.getresponse().read())


calls = [(path, method) for path, methods in fetch("/api/v1/openapi.json")["paths"].items() for method in methods if not path.endswith("/stream")]
described = fetch("/api/v1/openapi.json")["paths"]
words = ["", "x" * 300, "../../etc/passwd", "%00", "é", "Q1", "1 km", "-1", "1e999", "NaN", "null", "true", "[]", "{}", "'; --", "\u0000", "veskar", "VT0.va", "0.1"]
values = [None, True, -1, 1e308, 10**30, "", [], {}, [["x"]], {"a": {"b": []}}, "\ud800", *words]


def anything():
    return rng.choice(values)


def bad():
    """Method, path, headers, body: a call that is wrong somewhere, or nothing of the kind."""
    path, method = rng.choice(calls)
    fields = [p["name"] for p in described[path][method].get("parameters", []) if p["in"] == "query"]
    content = described[path][method].get("requestBody", {}).get("content", {}).get("application/json", {})
    fields += list(content.get("schema", {}).get("properties", {}))
    for part in ("{case}", "{id}", "{file}", "{record}"):
        path = path.replace(part, rng.choice(["veskar", "nothing", "..%2f..", "000001", "%00", "%ff", "x" * 400]))
    method = method.upper() if rng.random() < 0.8 else rng.choice(["PUT", "DELETE", "PATCH", "HEAD", "OPTIONS", "GET", "POST", "XYZZY"])
    headers = {"Host": host}
    if rng.random() < 0.1:
        headers["Host"] = rng.choice(["example.org", "", "localhost", host + "1"])
    if rng.random() < 0.1:
        headers["Origin"] = rng.choice(["null", "http://example.org", "http://" + host + ".example.org"])
    body = b"" if method in ("PUT", "PATCH", "DELETE", "XYZZY") else None
    if method == "POST":
        if rng.random() < 0.85:
            headers["Content-Type"] = rng.choice(["application/json"] * 8 + ["application/octet-stream", "text/plain"])
        # What would carry out trials, or begin a run that the next must wait for, is always wrong.
        made = {"nonsense": 1} if path.rsplit("/", 1)[-1] in ("test", "programme", "start", "restart") else {}
        made |= {rng.choice(fields) if fields and rng.random() < 0.8 else rng.choice(words) or "k": anything() for _ in range(rng.randrange(4))}
        body = json.dumps(made).encode("utf-8", "surrogatepass")
        if rng.random() < 0.3:
            body = bytearray(body or b"{")
            for _ in range(rng.randrange(1, 5)):
                if body:
                    body[rng.randrange(len(body))] = rng.randrange(256)
            body = bytes(body)
        if rng.random() < 0.02:
            body = b"[" * 50_000
    elif fields:
        path += "?" + "&".join(f"{rng.choice(fields)}={rng.choice(['1', '-1', '%ff', 'x', '1e999', 'VT0.va', '', '[1', '%5B%5D'])}" for _ in range(rng.randrange(4)))
    if rng.random() < 0.05:
        path = "/" + "".join(rng.choice("abc/%.?&=_0") for _ in range(rng.randrange(1, 200)))
    return method, path, headers, body


statuses, silent, reasons = {}, 0, 0
for k in range(count):
    if k % 10 == 9:
        # Not even HTTP.
        try:
            with socket.create_connection(tuple(host.rsplit(":", 1)), timeout=20) as raw:
                raw.sendall(bytes(rng.randrange(256) for _ in range(rng.randrange(1, 300))) + rng.choice([b"", b"\r\n\r\n"]))
                raw.shutdown(socket.SHUT_WR)
                answer = raw.recv(4096)
        except ConnectionError:
            answer = b""
        silent += not answer
        continue
    method, path, headers, body = bad()
    connection = http.client.HTTPConnection(host, timeout=30)
    try:
        connection.putrequest(method, path, skip_host=True, skip_accept_encoding=True)
        for name, value in headers.items():
            connection.putheader(name, value)
        if body is not None:
            connection.putheader("Content-Length", str(len(body)))
        connection.endheaders(body)
        response = connection.getresponse()
        text = response.read()
    except (http.client.HTTPException, ConnectionError, ValueError):
        silent += 1
        continue
    finally:
        connection.close()
    statuses[response.status] = statuses.get(response.status, 0) + 1
    if response.status >= 400 and method != "HEAD":
        error = json.loads(text)["error"]
        assert error["text"], (method, path, text)
        reasons += 1
    assert response.status != 500, (method, path, headers, body, text)
fetch("/api/v1/engine")
print(json.dumps({"requests": count, "by status": dict(sorted(statuses.items())), "with a reason": reasons, "closed": silent}))
