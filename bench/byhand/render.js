// Renders the generated fleet with js-yaml.
const fs = require("fs");
const path = require("path");
const yaml = require("js-yaml");

const [project, out] = process.argv.slice(2);
const read = (name) => JSON.parse(fs.readFileSync(path.join(project, name), "utf8"));

const labels = (name, coast) => ({
  "app.floodwatch.example/name": name,
  "app.floodwatch.example/part-of": "flood-watch",
  "app.floodwatch.example/coast": coast,
});

function* documents(env, e, s) {
  const coast = ["north", "south", "east"].includes(env) ? env : "none";
  const { name, port } = s;
  const own = { "app.floodwatch.example/name": name };
  const of = (apiVersion, kind) => ({ apiVersion, kind, metadata: { name, labels: labels(name, coast) } });
  const settings = s.settings || {};
  const variables = [{ name: "LOG_LEVEL", value: e.level }, ...Object.keys(settings).sort().map((k) => ({ name: k, value: settings[k] }))];
  yield ["deployment.yaml", {
    ...of("apps/v1", "Deployment"),
    spec: {
      replicas: e.replicas * (s.public ? 2 : 1),
      selector: { matchLabels: own },
      template: {
        metadata: { labels: labels(name, coast) },
        spec: {
          containers: [{
            name,
            image: `registry.floodwatch.example/${name}:${e.version}`,
            ports: [{ name: "main", containerPort: port }],
            env: variables,
            resources: { limits: { cpu: "500m", memory: "256Mi" }, requests: { cpu: "100m", memory: "128Mi" } },
            readinessProbe: { httpGet: { path: "/ready", port: "main" }, periodSeconds: 10 },
          }],
        },
      },
    },
  }];
  yield ["service.yaml", { ...of("v1", "Service"), spec: { selector: own, ports: [{ name: "main", port, targetPort: "main" }] } }];
  yield ["config.yaml", { ...of("v1", "ConfigMap"), data: { "service.conf": `name=${name}\nport=${port}\nlevel=${e.level}\n`, ADDRESS: `http://${name}:${port}/` } }];
  yield ["account.yaml", of("v1", "ServiceAccount")];
  yield ["route.yaml", {
    ...of("networking.k8s.io/v1", "Ingress"),
    spec: { rules: [{ host: `${name}.${e.domain}`, http: { paths: [{ path: "/", pathType: "Prefix", backend: { service: { name, port: { number: port } } } }] } }] },
  }];
  yield ["policy.yaml", { ...of("networking.k8s.io/v1", "NetworkPolicy"), spec: { podSelector: { matchLabels: own }, ingress: [{ ports: [{ port }] }] } }];
}

const services = read("services.json");
for (const [env, e] of Object.entries(read("environments.json"))) {
  for (const s of services) {
    const folder = path.join(out, env, s.name);
    fs.mkdirSync(folder, { recursive: true });
    for (const [file, document] of documents(env, e, s)) fs.writeFileSync(path.join(folder, file), yaml.dump(document, { noRefs: true }));
  }
}
