#!/bin/sh
# Installs from Debian's packages what is missing: PostgreSQL, Git, an ssh client and the
# tools for scratch on disk and a C compiler; for the tests Chromium, curl,
# OpenSSL, certutil, Python and an ssh server too; to try real software, what makes its images.
# Says what it does; without the right to install it names the packages and ends.
set -eu

missing=""
need() { # package, test
    if ! eval "$2" >/dev/null 2>&1; then missing="$missing $1"; fi
}

need gcc "command -v cc"
need libc6-dev "ls /usr/lib/*/libc.a"
need git "command -v git"
need btrfs-progs "command -v mkfs.btrfs"
need openssh-client "command -v ssh"
need postgresql "ls /usr/lib/postgresql/*/bin/initdb && id postgres"
if [ "${1:-}" = for-tests ]; then
    need chromium "command -v chromium"
    need python3 "dpkg -s python3"
    need curl "command -v curl"
    need openssh-server "test -x /usr/sbin/sshd"
    need openssl "command -v openssl"
    need libnss3-tools "command -v certutil"
    need chromium-driver "command -v chromedriver"
fi
if [ "${1:-}" = for-real ]; then
    need mmdebstrap "command -v mmdebstrap"
    need musl-tools "command -v musl-gcc"
    need python3-pip "dpkg -s python3-pip"
fi
for tool in cargo node npm; do
    if ! command -v "$tool" >/dev/null 2>&1; then
        echo "$tool is missing: install Rust (with cargo), Node.js and npm first" >&2
        exit 1
    fi
done

[ -n "$missing" ] || exit 0
echo "== missing Debian packages:$missing"
if [ "$(id -u)" -eq 0 ]; then as_root=""
elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then as_root="sudo"
else
    echo "This account may not install packages. Install them with:" >&2
    echo "  apt-get install$missing" >&2
    exit 1
fi
echo "== installing them"
$as_root apt-get update -qq
# No package's service is started by this, nor at the next boot: the tests start what they need, on loopback.
policy=/usr/sbin/policy-rc.d
ours=""
if [ ! -e $policy ]; then
    ours=yes
    printf '#!/bin/sh\nexit 101\n' | $as_root tee $policy >/dev/null
    $as_root chmod 755 $policy
fi
status=0
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing || status=$?
if [ -n "$ours" ]; then $as_root rm -f $policy; fi
case "$missing" in *openssh-server*)
    if command -v systemctl >/dev/null 2>&1; then
        $as_root systemctl disable ssh || echo "the ssh server was installed and may start at the next boot: systemctl disable ssh" >&2
    fi ;;
esac
exit $status
