package main

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/compose-spec/compose-go/v2/cli"
	apps "k8s.io/api/apps/v1"
	core "k8s.io/api/core/v1"
	networking "k8s.io/api/networking/v1"
	policy "k8s.io/api/policy/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/serializer"
	"k8s.io/apimachinery/pkg/util/yaml"
)

// TestKubernetes: every document is one that Kubernetes knows, field by field, and what one
// says of another is there.
func TestKubernetes(t *testing.T) {
	scheme := runtime.NewScheme()
	for _, add := range []func(*runtime.Scheme) error{apps.AddToScheme, core.AddToScheme, networking.AddToScheme,
		policy.AddToScheme} {
		if err := add(scheme); err != nil {
			t.Fatal(err)
		}
	}
	decoder := serializer.NewCodecFactory(scheme, serializer.EnableStrict).UniversalDeserializer()
	files, err := filepath.Glob("../deploy/kubernetes/*.yaml")
	if err != nil || len(files) < 4 {
		t.Fatal(files, err)
	}
	ports, wanted := map[string]bool{}, map[string]bool{}
	for _, path := range files {
		if filepath.Base(path) == "kustomization.yaml" {
			continue
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		documents := yaml.NewYAMLReader(bufio.NewReader(bytes.NewReader(raw)))
		for {
			document, err := documents.Read()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			object, _, err := decoder.Decode(document, nil, nil)
			if err != nil {
				t.Fatalf("%s: %v", path, err)
			}
			switch is := object.(type) {
			case *apps.Deployment:
				checkPod(t, is.Spec.Template, is.Spec.Selector.MatchLabels, nil, ports)
			case *apps.StatefulSet:
				checkPod(t, is.Spec.Template, is.Spec.Selector.MatchLabels, is.Spec.VolumeClaimTemplates, ports)
			case *core.Service:
				for _, p := range is.Spec.Ports {
					wanted[is.Spec.Selector["app"]+":"+p.TargetPort.String()] = true
				}
			case *networking.Ingress:
				to := is.Spec.Rules[0].HTTP.Paths[0].Backend.Service
				wanted[to.Name+":"+to.Port.Name] = true
			}
		}
	}
	if len(wanted) < 4 {
		t.Errorf("only %d ports are wanted by others", len(wanted))
	}
	for port := range wanted {
		if !ports[port] {
			t.Errorf("no container answers at %s", port)
		}
	}
}

func checkPod(
	t *testing.T, pod core.PodTemplateSpec, selected map[string]string, claims []core.PersistentVolumeClaim,
	ports map[string]bool,
) {
	t.Helper()
	volumes := map[string]bool{}
	for _, v := range pod.Spec.Volumes {
		volumes[v.Name] = true
	}
	for _, c := range claims {
		volumes[c.Name] = true
	}
	for name, value := range selected {
		if pod.Labels[name] != value {
			t.Errorf("%v does not select %v", selected, pod.Labels)
		}
	}
	for _, c := range append(pod.Spec.InitContainers, pod.Spec.Containers...) {
		if c.SecurityContext == nil || *c.SecurityContext.AllowPrivilegeEscalation || !*pod.Spec.SecurityContext.RunAsNonRoot {
			t.Errorf("%s may be root", c.Name)
		}
		for _, m := range c.VolumeMounts {
			if !volumes[m.Name] {
				t.Errorf("%s mounts %s, which is not there", c.Name, m.Name)
			}
		}
		for _, p := range c.Ports {
			ports[selected["app"]+":"+p.Name] = true
		}
		for _, probe := range []*core.Probe{c.StartupProbe, c.LivenessProbe, c.ReadinessProbe} {
			if probe != nil && probe.HTTPGet != nil && !ports[selected["app"]+":"+probe.HTTPGet.Port.String()] {
				t.Errorf("%s is asked at %s, where it does not answer", c.Name, probe.HTTPGet.Port.String())
			}
		}
	}
}

// TestCompose: it is one that Compose takes, and says what is missing where a secret is.
func TestCompose(t *testing.T) {
	secrets := []string{"CRELVO_IMAGE=crelvo:0.1.0", "DATABASE_PASSWORD=a", "ADMIN_PASSWORD=b", "OBJECTS_SECRET=c"}
	load := func(environment []string) error {
		options, err := cli.NewProjectOptions([]string{"../deploy/compose.yaml"}, cli.WithEnv(environment))
		if err != nil {
			t.Fatal(err)
		}
		project, err := options.LoadProject(t.Context())
		if err == nil && len(project.Services) != 4 {
			t.Errorf("%d services", len(project.Services))
		}
		return err
	}
	if err := load(secrets); err != nil {
		t.Error(err)
	}
	for i := range secrets {
		if load(append(append([]string{}, secrets[:i]...), secrets[i+1:]...)) == nil {
			t.Errorf("it would be started without %s", secrets[i])
		}
	}
}
