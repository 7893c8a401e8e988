#!/bin/busybox sh
# The first process of the virtual machine: the host's files, read-only under a layer in memory, then the job.
b=/bin/busybox
$b mount -t proc proc /proc
$b mount -t sysfs sysfs /sys
$b mount -t devtmpfs devtmpfs /dev
while read -r module options; do
    case $module in
        *.xz) $b unxz -c "/modules/$module" > "/modules/${module%.xz}"; module=${module%.xz} ;;
    esac
    $b insmod "/modules/$module" $options || echo "insmod $module failed"
done < /modules/order
$b mount -t 9p -o trans=virtio,version=9p2000.L,ro,msize=512000,cache=loose host /host
$b mount -t tmpfs tmpfs /top
$b mkdir /top/upper /top/work
$b mount -t overlay -o lowerdir=/host,upperdir=/top/upper,workdir=/top/work overlay /all
for folder in proc sys dev; do $b mount --move /$folder /all/$folder; done
$b mount -t tmpfs tmpfs /all/run
$b mkdir -p /all/run/tmp /all/run/home /all/dev/pts /all/dev/shm /all/run/job
$b mount -t devpts devpts /all/dev/pts
$b mount -t tmpfs tmpfs /all/dev/shm
$b mount -t 9p -o trans=virtio,version=9p2000.L,msize=512000 job /all/run/job
$b chroot /all /bin/sh /run/job/run.sh > /all/run/job/output.txt 2>&1
echo "$?" > /all/run/job/exit
$b sync
$b poweroff -f
