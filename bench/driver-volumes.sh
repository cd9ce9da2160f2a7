#!/bin/sh
# Makes an HFS+ volume and an APFS container that the Linux kernel's drivers fill with very many files:
#   sh bench/driver-volumes.sh FOLDER [FILES]     (200,000 files by default: about ten minutes)
# Writes FOLDER/hfsplus-FILES-driver.img and FOLDER/apfs-FILES-driver.img, which `npm run bench` takes where FOLDER is the one it works in, and
# FOLDER/driver-volumes.log, in which the time stands that mounting them and listing them with `find -ls` takes in the same (emulated) machine.
set -eu
HERE=$(dirname "$0")
FOLDER=${1:?the folder the images are written to}
FILES=${2:-200000}
MACHINE=$FOLDER/kernel-machine
mkdir -p "$MACHINE/scripts"
MACHINE=$(cd "$MACHINE" && pwd)
cat >"$MACHINE/scripts/run.sh" <<INIT
FILES=$FILES
INIT
cat >>"$MACHINE/scripts/run.sh" <<'INIT'
TEXT="The ledger of the fair at the old mill, kept by hand; what was sold, to whom, and for how much. "
TEXT="$TEXT$TEXT$TEXT$TEXT$TEXT$TEXT$TEXT$TEXT$TEXT$TEXT$TEXT"
# Folders of 400 files in folders of 40 such; names of several scripts; sizes of a few bytes to two kilobytes; every 50th file is deleted again.
fill() {
  number=0
  while [ $number -lt $FILES ]; do
    top=$((number / 16000)); folder=$((number / 400))
    [ $((number % 16000)) = 0 ] && mkdir "$1/Year $top"
    [ $((number % 400)) = 0 ] && { mkdir "$1/Year $top/Folder $folder"; cd "$1/Year $top/Folder $folder"; }
    case $((number % 5)) in
      0) name="Letter $number.txt" ;;
      1) name="Rechnung für März $number.csv" ;;
      2) name="写真 $number.jpeg" ;;
      3) name="IMG_$number.JPG" ;;
      *) name="Заметка $number.md" ;;
    esac
    case $((number % 3)) in
      0) echo "$number $TEXT" >"$name" ;;
      1) echo "$number" >"$name" ;;
      *) echo "$number $TEXT$TEXT" >"$name" ;;
    esac
    [ $((number % 50)) = 49 ] && rm "$name"
    number=$((number + 1))
  done
  cd /
}
now() { cut -d' ' -f1 /proc/uptime; }
run() {
  echo "== $1"
  mount -t "$2" -o "$3" "$4" /volume || { echo "$1: the driver does not mount it"; return; }
  begin=$(now)
  fill /volume; umount /volume
  echo "filled: $begin to $(now) s"
  echo 3 >/proc/sys/vm/drop_caches
  begin=$(now)
  mount -t "$2" -o ro "$4" /volume && /find /volume -ls | wc -l && umount /volume
  echo "mounted and listed by find -ls: $begin to $(now) s"
}
run "HFS+" hfsplus rw,force /dev/vdb
run "APFS" apfs readwrite /dev/vdc
INIT
sh "$HERE/../tests/fixtures/kernel-machine.sh" "$MACHINE" "$MACHINE/scripts"
SIZE=$((FILES * 6 / 1000 + 400))
HFS=$FOLDER/hfsplus-$FILES-driver.img
APFS=$FOLDER/apfs-$FILES-driver.img
rm -f "$HFS" "$APFS"
truncate -s "${SIZE}M" "$HFS.working"
truncate -s "$((SIZE * 2))M" "$APFS.working"
"$MACHINE/unpacked/sbin/mkfs.hfsplus" -v "Yearbooks" "$HFS.working" >"$MACHINE/format.log"
mkapfs -L "Yearbooks" "$APFS.working" >>"$MACHINE/format.log"
sh "$HERE/../tests/fixtures/kernel-machine.sh" "$MACHINE" "$MACHINE/scripts" "$HFS.working" "$APFS.working" | tee "$FOLDER/driver-volumes.log"
mv "$HFS.working" "$HFS"
mv "$APFS.working" "$APFS"
