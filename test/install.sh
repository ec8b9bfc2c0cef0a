#!/bin/sh
# Installs the Debian packages that the named purposes need and that are not
# there: run, test, bench, screenshots.
set -eu

packages() {
	case "$1" in
	run) echo postgresql-15 ;;
	test) echo buildah chromium maven default-jdk-headless \
		libmaven-deploy-plugin-java libmaven-resources-plugin-java libmaven-compiler-plugin-java \
		libmaven-jar-plugin-java libmaven-install-plugin-java junit5 \
		cargo-web curl debuginfod elfutils gcc gdb libc6-dev gpg gpg-agent jq nginx-light rpm skopeo twine python3-openssl python3-pip python3-pyftpdlib python3-setuptools python3-wheel mono-runtime libmono-system-componentmodel-composition4.0-cil libmono-system-net-http4.0-cil \
		libmono-system-io-compression4.0-cil libmono-system-io-compression-filesystem4.0-cil libmono-windowsbase4.0-cil \
		libmono-system-xml-linq4.0-cil libmono-system-runtime-serialization4.0-cil libmono-microsoft-build-framework4.0-cil \
		libmono-microsoft-build-utilities-v4.0-4.0-cil libmono-microsoft-csharp4.0-cil \
		libmono-system-componentmodel-dataannotations4.0-cil libmono-system-data-services-client4.0-cil \
		libmono-system-servicemodel4.0a-cil ;;
	bench) echo nginx-light wrk curl rsync ;;
	screenshots) echo xterm xvfb xauth imagemagick fonts-dejavu-core ;;
	*) echo "install.sh: unknown purpose $1" >&2; exit 2 ;;
	esac
}

# Whoever runs the tests on a full disk should not have to find out from what they say.
case " $* " in *" test "*)
	temporary=${TMPDIR:-/tmp}
	free=$(df -Pk "$temporary" | awk 'NR == 2 { print $4 }')
	if [ "$free" -lt $((3 << 20)) ]; then
		echo "The tests need 3 GiB in $temporary, and $((free >> 10)) MiB are free there. Make room, or set TMPDIR." >&2
		exit 1
	fi ;;
esac

missing=""
for purpose in "$@"; do
	for package in $(packages "$purpose"); do
		dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing="$missing $package"
	done
done
# A machine may have Maven, Java and Rust from elsewhere.
if command -v mvn >/dev/null && command -v javac >/dev/null; then
	missing=$(echo "$missing" | sed 's/ maven / /; s/ default-jdk-headless / /; s/ maven$//; s/ default-jdk-headless$//')
fi
if command -v cargo >/dev/null; then
	missing=$(echo "$missing" | sed 's/ cargo-web / /')
fi
[ -n "$(echo "$missing" | tr -d ' ')" ] || exit 0
if [ "$(id -u)" != 0 ]; then
	echo "Install what is missing first: sudo apt-get install -y --no-install-recommends$missing" >&2
	exit 1
fi
echo "Installing:$missing"
# The packages bring services of their own, which are not wanted: servers are
# started by Crelvo and its tests.
policy=/usr/sbin/policy-rc.d
made_policy=""
if [ ! -e "$policy" ]; then
	printf '#!/bin/sh\nexit 101\n' >"$policy"
	chmod +x "$policy"
	made_policy=yes
fi
trap '[ -z "$made_policy" ] || rm -f "$policy"' EXIT
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq -o DPkg::Lock::Timeout=300
# shellcheck disable=SC2086
apt-get install -y -qq --no-install-recommends -o DPkg::Lock::Timeout=300 $missing >/dev/null
