# What ./start and ./test share: the machine's packages, the console's build. Sourced, never run.

is_root() { [ "$(id -u)" = 0 ]; }

# Debian packages that are missing are installed as root, or named when we are not.
need_packages() {
    local missing=()
    for package in "$@"; do
        dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
    done
    [ ${#missing[@]} = 0 ] && return 0
    if ! is_root; then
        echo "These Debian packages are missing: ${missing[*]}. Install them as root: apt-get install ${missing[*]}" >&2
        exit 1
    fi
    step "Installing Debian packages: ${missing[*]}"
    # Nothing that is installed here may start by itself.
    local guard=/usr/sbin/policy-rc.d made=no
    if [ ! -e $guard ]; then printf '#!/bin/sh\nexit 101\n' > $guard; chmod 755 $guard; made=yes; fi
    if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
        mkdir -p /etc/postgresql-common
        echo 'create_main_cluster = false' > /etc/postgresql-common/createcluster.conf
    fi
    apt-get update -q
    DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends -o Dpkg::Options::=--force-confold "${missing[@]}"
    [ $made = yes ] && rm -f $guard
    return 0
}

packages_for_start() { need_packages postgresql redis-server mariadb-server openssl openssh-server openssh-client build-essential pkg-config util-linux procps; }
packages_for_test() { packages_for_start; need_packages chromium chromium-driver sshpass xvfb xclip openssl python3 slapd 389-ds-base libnss3-tools ldap-utils systemd samba samba-ad-provision samba-dsdb-modules samba-vfs-modules winbind etcd-server etcd-client influxdb influxdb-client rabbitmq-server sudo frr; }

# The console is built again only when something it is made of has changed.
build_console() {
    local stamp=console/node_modules/.jexlin-lock
    if ! cmp -s console/package-lock.json "$stamp"; then
        step "Fetching the console's packages"
        (cd console && npm install --no-save --no-audit --no-fund --loglevel=error)
        cp console/package-lock.json "$stamp"
    fi
    if [ ! -f console/dist/index.html ] || [ -n "$(find console/src console/index.html console/vite.config.ts console/compress.mjs console/package-lock.json -newer console/dist/index.html -print -quit)" ]; then
        step "Building the console"
        (cd console && npm run --silent build)
    fi
}

# Where the demo's state is: here, unless PostgreSQL's user cannot reach this folder.
state_folder() {
    if is_root && ! runuser -u postgres -- test -x "$PWD"; then
        echo "/var/tmp/jexlin-$(pwd | cksum | cut -d' ' -f1)"
    else
        echo "$PWD/.jexlin"
    fi
}
