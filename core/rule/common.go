package rule

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// common follows the links between the common kinds of the open object format: what a workload mounts and reads, whom
// a service, a budget or a network policy selects, where a route and an autoscaler lead, whom a binding binds.
type common struct {
	objects []member
	byKind  map[string][]*member
	byName  map[objectName][]*member
	pods    labelled[*member] // those that make pods, by the labels of these
	outside []string
	files   bool // there may be others beside the objects
	names   bool // only names are followed, no selectors
	all     []reference
}

// member is an object with what links ask of it.
type member struct {
	*Object
	kind, name, space string
	pod               value.Value // the specification of its pods; Absent for what has none
	podPath           *place.Path
	labels            value.Value // of its pods
}

// objectName is the kind and the name of an object.
type objectName struct{ kind, name string }

// podPlaces are where the kinds that make pods describe them.
var podPlaces = map[string][]string{
	"Deployment": {"spec", "template"}, "StatefulSet": {"spec", "template"}, "DaemonSet": {"spec", "template"},
	"ReplicaSet": {"spec", "template"}, "ReplicationController": {"spec", "template"}, "Job": {"spec", "template"},
	"CronJob": {"spec", "jobTemplate", "spec", "template"}, "Pod": nil,
}

// builtInNames are objects that every cluster has.
var builtInNames = []string{"ServiceAccount/default", "ConfigMap/kube-root-ca.crt", "ClusterRole/cluster-admin",
	"ClusterRole/admin", "ClusterRole/edit", "ClusterRole/view", "ClusterRole/system:*", "Role/system:*",
	"Role/extension-apiserver-authentication-reader"}

// newCommon looks at objects; outside are patterns of those that exist elsewhere.
func newCommon(objects []Object, outside []string) *common {
	c := &common{byKind: map[string][]*member{}, byName: map[objectName][]*member{},
		outside: slices.Concat(outside, builtInNames), objects: make([]member, 0, len(objects))}
	for i := range objects {
		o := &objects[i]
		kind, name, ok := place.Object(o.Data)
		if !ok || textAt(o.Data, "apiVersion") == "" {
			continue
		}
		one := member{Object: o, kind: kind, name: name, space: textAt(o.Data, "metadata", "namespace")}
		if way, makesPods := podPlaces[kind]; makesPods {
			template := o.Data
			for _, key := range way {
				template, one.podPath = get(template, key), one.podPath.Field(key)
			}
			one.pod, one.podPath = get(template, "spec"), one.podPath.Field("spec")
			one.labels = get(get(template, "metadata"), "labels")
		}
		c.objects = append(c.objects, one)
	}
	for i := range c.objects {
		one := &c.objects[i]
		name := objectName{one.kind, one.name}
		c.byKind[one.kind] = append(c.byKind[one.kind], one)
		c.byName[name] = append(c.byName[name], one)
		if one.pod.Kind() == value.Record {
			c.pods.add(one, one.labels)
		}
	}
	return c
}

// get returns a field of a record, Absent for what is none.
func get(v value.Value, key string) value.Value {
	if v.Kind() != value.Record {
		return value.Value{}
	}
	return v.Get(key)
}

// textAt returns the text at the end of fields; empty when it is none, or not known.
func textAt(v value.Value, keys ...string) string {
	for _, key := range keys {
		v = get(v, key)
	}
	if v.Kind() != value.String || v.Mark() != 0 {
		return ""
	}
	return v.Text()
}

// references returns all references between the objects, in their order.
func (c *common) references() []reference {
	for i := range c.objects {
		o := &c.objects[i]
		root := cursor{c: c, from: o, v: o.Data}
		if o.pod.Kind() == value.Record {
			pod := cursor{c: c, from: o, v: o.pod, path: o.podPath}
			pod.volumes()
			pod.containers()
			pod.workload(o)
		}
		switch o.kind {
		case "Service":
			root.service()
		case "Ingress":
			root.route()
		case "HorizontalPodAutoscaler":
			to := root.at("spec", "scaleTargetRef")
			to.at("name").named(textAt(to.v, "kind"), o.space, false)
		case "PodDisruptionBudget":
			root.at("spec", "selector").selects()
		case "NetworkPolicy":
			root.at("spec", "podSelector").selects()
			root.peers("ingress", "from")
			root.peers("egress", "to")
		case "RoleBinding", "ClusterRoleBinding":
			root.binding()
		}
	}
	return c.all
}

// cursor is a place in an object, from which what it names is looked for.
type cursor struct {
	c    *common
	from *member
	v    value.Value
	path *place.Path
}

// at goes down fields; where there are none, the value is Absent.
func (x cursor) at(keys ...string) cursor {
	for _, key := range keys {
		x.v, x.path = get(x.v, key), x.path.Field(key)
	}
	return x
}

// each calls visit for the elements of a list.
func (x cursor) each(visit func(x cursor)) {
	if x.v.Kind() != value.List {
		return
	}
	for i, v := range x.v.Elements() {
		visit(cursor{x.c, x.from, v, x.path.Index(i)})
	}
}

// text returns the text at the cursor; empty for what is none.
func (x cursor) text() string { return textAt(x.v) }

// add adds a reference of what is at the cursor.
func (x cursor) add(r reference) {
	r.from, r.found = x.from.Object, place.Found{Path: x.path, Value: x.v}
	x.c.all = append(x.c.all, r)
}

// optional reports whether the field of that name at the cursor is true: then what is named need not be there.
func (x cursor) optional() bool {
	v := get(x.v, "optional")
	return v.Kind() == value.Bool && v.Bool()
}

// find returns the objects of a kind and name in a name space. An object that names no space is in whichever it is
// applied to.
func (c *common) find(kind, name, space string) (found []*member) {
	for _, o := range c.byName[objectName{kind, name}] {
		if sameSpace(o.space, space) {
			found = append(found, o)
		}
	}
	return found
}

func sameSpace(a, b string) bool { return a == "" || b == "" || a == b }

// named is the reference of a name to an object of a kind, in a name space; it returns what is found.
func (x cursor) named(kind, space string, optional bool) []*member {
	name := x.text()
	if name == "" || kind == "" {
		return nil
	}
	found := x.c.find(kind, name, space)
	r := reference{}
	for _, o := range found {
		r.needs = append(r.needs, o.Object)
	}
	if len(found) == 0 && !optional && !outside(x.c.outside, kind, name) {
		among := ""
		if x.c.files {
			among = " among the files"
		}
		r.missing = fmt.Sprintf("no %s%s is named %q", kind, among, name)
		r.help = func() string { return x.c.nearest(kind, name, space) }
	}
	x.add(r)
	return found
}

// nearest is the help for a name that no object of the kind has in the name space.
func (c *common) nearest(kind, name, space string) string {
	var names []string
	for _, o := range c.byKind[kind] {
		switch {
		case sameSpace(o.space, space):
			names = append(names, o.name)
		case o.name == name:
			return fmt.Sprintf("there is one in the name space %q, not in %q", o.space, space)
		}
	}
	return nearestName(name, names, c.files)
}

// key is the reference of a key to the data of what was found.
func (x cursor) key(found []*member, optional bool) {
	name := x.text()
	if name == "" || optional || len(found) == 0 {
		return
	}
	var keys []string
	for _, o := range found {
		for _, field := range []string{"data", "stringData", "binaryData"} {
			if data := get(o.Data, field); data.Kind() == value.Record {
				keys = append(keys, data.Shape().Keys()...)
			}
		}
		if textAt(o.Data, "type") != "" && len(keys) == 0 {
			return // which a controller fills
		}
	}
	if slices.Contains(keys, name) {
		return
	}
	otherwise := "it has no data"
	if len(keys) > 0 {
		otherwise = "it has " + source.FirstQuoted(keys, 6)
	}
	x.add(reference{missing: fmt.Sprintf("%s %q has no key %q", found[0].kind, found[0].name, name),
		help: func() string { return source.Suggest(name, keys, otherwise) }})
}

// settings is a reference to settings or to a secret by a field, with the keys that are taken out of it.
func (x cursor) settings(kind, field string) {
	if x.v.Kind() != value.Record {
		return
	}
	found := x.at(field).named(kind, x.from.space, x.optional())
	x.at("items").each(func(item cursor) { item.at("key").key(found, x.optional()) })
	if key := x.at("key"); !key.v.IsAbsent() {
		key.key(found, x.optional())
	}
}

func (pod cursor) volumes() {
	pod.at("volumes").each(func(volume cursor) {
		volume.at("configMap").settings("ConfigMap", "name")
		volume.at("secret").settings("Secret", "secretName")
		volume.at("persistentVolumeClaim", "claimName").named("PersistentVolumeClaim", pod.from.space, false)
		volume.at("projected", "sources").each(func(part cursor) {
			part.at("configMap").settings("ConfigMap", "name")
			part.at("secret").settings("Secret", "name")
		})
	})
}

// containerFields are the lists of containers of a pod.
var containerFields = []string{"initContainers", "containers", "ephemeralContainers"}

func (pod cursor) containers() {
	var volumes []string
	known := true
	note := func(v cursor) {
		if name := v.text(); name != "" {
			volumes = append(volumes, name)
		} else {
			known = false
		}
	}
	pod.at("volumes").each(func(v cursor) { note(v.at("name")) })
	root := cursor{c: pod.c, from: pod.from, v: pod.from.Data}
	root.at("spec", "volumeClaimTemplates").each(func(v cursor) { note(v.at("metadata", "name")) })
	for _, field := range containerFields {
		pod.at(field).each(func(container cursor) {
			container.at("envFrom").each(func(from cursor) {
				from.at("configMapRef").settings("ConfigMap", "name")
				from.at("secretRef").settings("Secret", "name")
			})
			container.at("env").each(func(env cursor) {
				env.at("valueFrom", "configMapKeyRef").settings("ConfigMap", "name")
				env.at("valueFrom", "secretKeyRef").settings("Secret", "name")
			})
			container.at("volumeMounts").each(func(mount cursor) {
				name := mount.at("name")
				if text := name.text(); text != "" && known && !slices.Contains(volumes, text) {
					name.add(reference{missing: fmt.Sprintf("no volume of the pod is named %q", text),
						help: func() string { return source.Suggest(text, volumes, volumesAre(volumes)) }})
				}
			})
			for _, probe := range []string{"livenessProbe", "readinessProbe", "startupProbe"} {
				for _, way := range []string{"httpGet", "tcpSocket"} {
					container.at(probe, way, "port").portOf([]value.Value{container.v}, "the container")
				}
			}
		})
	}
}

func volumesAre(volumes []string) string {
	if len(volumes) == 0 {
		return "the pod has no volumes"
	}
	return "its volumes are " + source.FirstQuoted(volumes, 6)
}

// portOf is the reference of a name to a port of containers.
func (x cursor) portOf(containers []value.Value, whose string) {
	name := x.text()
	if name == "" {
		return
	}
	var names []string
	for _, container := range containers {
		ports := get(container, "ports")
		if ports.Kind() != value.List {
			continue
		}
		for _, port := range ports.Elements() {
			if text := textAt(port, "name"); text != "" {
				names = append(names, text)
			}
		}
	}
	if slices.Contains(names, name) {
		return
	}
	otherwise := "none of its ports has a name"
	if len(names) > 0 {
		otherwise = "its ports are " + source.FirstQuoted(names, 6)
	}
	x.add(reference{missing: fmt.Sprintf("no port of %s is named %q", whose, name),
		help: func() string { return source.Suggest(name, names, otherwise) }})
}

func (pod cursor) workload(o *member) {
	pod.at("imagePullSecrets").each(func(secret cursor) { secret.at("name").named("Secret", o.space, false) })
	pod.at("serviceAccountName").named("ServiceAccount", o.space, false)
	if o.kind == "StatefulSet" {
		root := cursor{c: pod.c, from: o, v: o.Data}
		root.at("spec", "serviceName").named("Service", o.space, false)
	}
}

// selected returns the objects whose pods a selector selects; known is false when it cannot be told.
func (x cursor) selected() (found []*member, why string, known bool) {
	labels, expressions := x.v, value.Value{}
	if x.from.kind != "Service" {
		labels, expressions = get(x.v, "matchLabels"), get(x.v, "matchExpressions")
	}
	if expressions.Kind() == value.List && expressions.Len() > 0 || labels.Kind() != value.Record ||
		labels.Len() == 0 {
		if labels.Kind() != value.Absent && labels.Kind() != value.Null && labels.Kind() != value.Record {
			_, why := labelsOf(labels)
			return nil, why, true
		}
		return nil, "", false // all are selected, or by more than labels
	}
	if value.Marks(labels) != 0 {
		return nil, "", false
	}
	wanted, why := labelsOf(labels)
	if why != "" {
		return nil, why, true
	}
	for o := range x.c.pods.having(wanted) {
		if sameSpace(o.space, x.from.space) {
			found = append(found, o)
		}
	}
	return found, "", true
}

// selects is the reference of a selector to those whose pods it selects, which it returns.
func (x cursor) selects() []*member {
	if x.v.Kind() != value.Record || x.c.names {
		return nil
	}
	found, why, known := x.selected()
	if !known {
		return nil
	}
	at := x
	if x.from.kind != "Service" {
		at = x.at("matchLabels")
	}
	r := reference{missing: why}
	for _, o := range found {
		r.needs = append(r.needs, o.Object)
	}
	if len(found) == 0 && why == "" && !outside(x.c.outside, x.from.kind, x.from.name) {
		if x.c.files && !slices.ContainsFunc(x.c.pods.all, x.besides) {
			return nil
		}
		wanted, _ := labelsOf(at.v)
		r.missing = "this selects no workload: none has the labels " + at.v.Show(80)
		r.help = func() string {
			var candidates []value.Value
			for _, pod := range x.c.pods.all {
				if x.besides(pod) {
					candidates = append(candidates, pod.labels)
				}
			}
			help := nearestLabels(wanted, candidates)
			if help == "" && !x.c.files {
				help = fmt.Sprintf("if what it selects is made elsewhere, say so: outside = [%q]",
					x.from.kind+"/"+x.from.name)
			}
			return help
		}
	}
	at.add(r)
	return found
}

// besides reports whether pods are in the name space of the object at hand.
func (x cursor) besides(pod withLabels[*member]) bool { return sameSpace(pod.of.space, x.from.space) }

func (x cursor) service() {
	found := x.at("spec", "selector").selects()
	if len(found) == 0 {
		return
	}
	var containers []value.Value
	for _, o := range found {
		for _, field := range containerFields {
			if list := get(o.pod, field); list.Kind() == value.List {
				containers = append(containers, list.Elements()...)
			}
		}
	}
	whose := "what the service selects"
	if len(found) == 1 {
		whose = found[0].kind + " " + found[0].name
	}
	x.at("spec", "ports").each(func(port cursor) { port.at("targetPort").portOf(containers, whose) })
}

// peers follows the selectors of those from whom and to whom a network policy lets traffic pass, as far as they are in
// its own name space. Beside plain files they nearly always are elsewhere: only what looks mistyped is told there.
func (x cursor) peers(way, field string) {
	x.at("spec", way).each(func(rule cursor) {
		rule.at(field).each(func(peer cursor) {
			if spaces := get(peer.v, "namespaceSelector"); !spaces.IsAbsent() && !spaces.IsNull() {
				return
			}
			selector := peer.at("podSelector")
			if !x.c.files || selector.mistyped() {
				selector.selects()
			}
		})
	})
}

// mistyped reports whether a selector asks for a label that is nearly one of the pods. It does not look among very
// many.
func (x cursor) mistyped() bool {
	const many = 1000
	wanted, _ := labelsOf(get(x.v, "matchLabels"))
	for key, text := range wanted {
		texts := x.c.pods.texts(key)
		if len(texts) > many || slices.Contains(texts, text) {
			continue
		}
		if _, near := source.Nearest(text, texts); near {
			return true
		}
	}
	return false
}

// route follows a route to its services and their ports.
func (x cursor) route() {
	backend := func(to cursor) {
		service := to.at("service")
		for _, o := range service.at("name").named("Service", x.from.space, false) {
			service.at("port").servicePort(o)
		}
	}
	backend(x.at("spec", "defaultBackend"))
	x.at("spec", "rules").each(func(rule cursor) {
		rule.at("http", "paths").each(func(path cursor) { backend(path.at("backend")) })
	})
}

// servicePort is the reference of a route to a port of a service, by its name or its number.
func (x cursor) servicePort(o *member) {
	ports := get(get(o.Data, "spec"), "ports")
	if ports.Kind() != value.List || textAt(o.Data, "spec", "type") == "ExternalName" {
		return
	}
	for _, field := range []string{"name", "number"} {
		at := x.at(field)
		wanted, ok := nameOf(at.v)
		if !ok || at.v.Mark() != 0 {
			continue
		}
		inPort := "name"
		if field == "number" {
			inPort = "port"
		}
		var have []string
		for _, port := range ports.Elements() {
			if text, ok := nameOf(get(port, inPort)); ok {
				have = append(have, text)
			}
		}
		if slices.Contains(have, wanted) {
			continue
		}
		shown, otherwise := wanted, "its ports have no names"
		if field == "name" {
			shown = fmt.Sprintf("named %q", wanted)
		}
		if len(have) > 0 {
			otherwise = "its ports are " + strings.Join(have, ", ")
		}
		at.add(reference{missing: fmt.Sprintf("Service %q has no port %s", o.name, shown),
			help: func() string { return source.Suggest(wanted, have, otherwise) }})
	}
}

func (x cursor) binding() {
	role := x.at("roleRef")
	kind, space := textAt(role.v, "kind"), x.from.space
	if kind == "ClusterRole" {
		space = ""
	}
	role.at("name").named(kind, space, false)
	x.at("subjects").each(func(subject cursor) {
		if textAt(subject.v, "kind") != "ServiceAccount" {
			return
		}
		space := textAt(subject.v, "namespace")
		if space == "" {
			space = x.from.space
		}
		subject.at("name").named("ServiceAccount", space, false)
	})
}
