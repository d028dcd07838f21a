# A whole Linux host in namespaces of its own: run by `unshare`, never by hand.
# Arguments: folder, name, address, port, and where the accounts are listed ("user password" lines).
set -eu
folder=$1 name=$2 address=$3 port=$4 accounts=$5
mount --make-rprivate /
if [ ! -d "$folder/etc" ]; then
    rm -rf "$folder/etc.new"
    cp -a /etc "$folder/etc.new"
    fresh=1
else
    fresh=0
fi
if [ "$fresh" = 1 ]; then mount --bind "$folder/etc.new" /etc; else mount --bind "$folder/etc" /etc; fi
hostname "$name"
mkdir -p /run/sshd
if [ "$fresh" = 1 ]; then
    # The accounts that every Debian system has, and none of this machine's own.
    for list in passwd group; do
        awk -F: '$3 < 100 || $1 == "sshd" || $3 == 65534' /etc/$list > "$folder/$list"
        cat "$folder/$list" > /etc/$list
    done
    for list in shadow gshadow; do
        of=passwd
        [ "$list" = gshadow ] && of=group
        awk -F: 'NR == FNR { known[$1] = 1; next } known[$1]' /etc/$of /etc/$list > "$folder/$list"
        cat "$folder/$list" > /etc/$list
        rm "$folder/$list" "$folder/$of"
    done
    # What this machine's root has a shell do at a sign-in is not the host's.
    install -d -m 700 "$folder/root"
    awk -F: -v OFS=: -v home="$folder/root" '$1 == "root" { $6 = home } 1' /etc/passwd > "$folder/passwd"
    cat "$folder/passwd" > /etc/passwd
    rm "$folder/passwd"
    # A wrong password is answered at once; nothing else of PAM is changed.
    sed -i 's/^\(auth.*pam_unix\.so\).*/\1 nullok nodelay/' /etc/pam.d/common-auth
    rm -f /etc/ssh/sshd_config.d/*.conf
    while read -r user password; do
        [ -n "$user" ] || continue
        if [ "$user" != root ]; then
            mkdir -p "$folder/home"
            chmod 755 "$folder/home"
            useradd -M -N -d "$folder/home/$user" -s /bin/bash "$user"
            install -d -m 755 -o "$user" "$folder/home/$user"
        fi
        printf '%s:%s\n' "$user" "$password" | chpasswd
        # An operator that is not root.
        if [ "$user" = keeper ] && [ -d /etc/sudoers.d ]; then
            echo 'keeper ALL=(root) /usr/bin/passwd' > /etc/sudoers.d/keeper
            chmod 440 /etc/sudoers.d/keeper
        fi
    done < "$accounts"
    ssh-keygen -q -t ed25519 -N '' -C "$name" -f /etc/ssh/jexlin_host_key
    cat > /etc/ssh/sshd_config <<CONFIG
Port $port
ListenAddress $address
HostKey /etc/ssh/jexlin_host_key
PidFile none
UsePAM yes
PermitRootLogin yes
PasswordAuthentication yes
KbdInteractiveAuthentication no
StrictModes no
PrintMotd no
PrintLastLog no
MaxStartups 200
MaxSessions 200
CONFIG
    mv "$folder/etc.new" "$folder/etc"
fi
exec /usr/sbin/sshd -D -e -p "$port" -o "ListenAddress=$address"
