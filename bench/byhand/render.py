"""Renders the generated fleet with PyYAML: with its compiled part, or without when a third argument says "plain"."""
import json
import os
import sys

import yaml

PROJECT, OUT = sys.argv[1], sys.argv[2]
DUMPER = yaml.SafeDumper if len(sys.argv) > 3 else yaml.CSafeDumper


class Dumper(DUMPER):
    def ignore_aliases(self, data):
        return True


def labels(name, coast):
    return {
        "app.floodwatch.example/name": name,
        "app.floodwatch.example/part-of": "flood-watch",
        "app.floodwatch.example/coast": coast,
    }


def documents(env, e, s):
    coast = env if env in ("north", "south", "east") else "none"
    name, port = s["name"], s["port"]
    own = {"app.floodwatch.example/name": name}

    def of(api, kind):
        return {"apiVersion": api, "kind": kind, "metadata": {"name": name, "labels": labels(name, coast)}}

    settings = s.get("settings", {})
    variables = [{"name": "LOG_LEVEL", "value": e["level"]}] + [{"name": k, "value": settings[k]} for k in sorted(settings)]
    yield "deployment.yaml", of("apps/v1", "Deployment") | {
        "spec": {
            "replicas": e["replicas"] * (2 if s.get("public") else 1),
            "selector": {"matchLabels": own},
            "template": {
                "metadata": {"labels": labels(name, coast)},
                "spec": {
                    "containers": [{
                        "name": name,
                        "image": f"registry.floodwatch.example/{name}:{e['version']}",
                        "ports": [{"name": "main", "containerPort": port}],
                        "env": variables,
                        "resources": {"limits": {"cpu": "500m", "memory": "256Mi"}, "requests": {"cpu": "100m", "memory": "128Mi"}},
                        "readinessProbe": {"httpGet": {"path": "/ready", "port": "main"}, "periodSeconds": 10},
                    }],
                },
            },
        },
    }
    yield "service.yaml", of("v1", "Service") | {"spec": {"selector": own, "ports": [{"name": "main", "port": port, "targetPort": "main"}]}}
    yield "config.yaml", of("v1", "ConfigMap") | {
        "data": {"service.conf": f"name={name}\nport={port}\nlevel={e['level']}\n", "ADDRESS": f"http://{name}:{port}/"},
    }
    yield "account.yaml", of("v1", "ServiceAccount")
    yield "route.yaml", of("networking.k8s.io/v1", "Ingress") | {
        "spec": {"rules": [{"host": f"{name}.{e['domain']}", "http": {"paths": [
            {"path": "/", "pathType": "Prefix", "backend": {"service": {"name": name, "port": {"number": port}}}}]}}]},
    }
    yield "policy.yaml", of("networking.k8s.io/v1", "NetworkPolicy") | {
        "spec": {"podSelector": {"matchLabels": own}, "ingress": [{"ports": [{"port": port}]}]},
    }


def main():
    with open(os.path.join(PROJECT, "services.json")) as f:
        services = json.load(f)
    with open(os.path.join(PROJECT, "environments.json")) as f:
        environments = json.load(f)
    for env, e in environments.items():
        for s in services:
            folder = os.path.join(OUT, env, s["name"])
            os.makedirs(folder, exist_ok=True)
            for file, document in documents(env, e, s):
                with open(os.path.join(folder, file), "w") as f:
                    yaml.dump(document, f, Dumper=Dumper, sort_keys=False, default_flow_style=False)


main()
