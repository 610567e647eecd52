//! A machine that is gone: rebuilt by a rescue medium that has a kernel, a shell and the program, and started. It takes minutes, root, and
//! packages that no other test needs: `make test-machine`.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSPHRASE, PASSWORD};
use jetfrost_tests::terminal::Terminal;

/// An emulated processor takes its time.
const PATIENCE: Duration = Duration::from_secs(900);
const NAME: &str = "tern";

/// Runs a tool and returns what it printed.
fn tool(name: &str, words: &[&str]) -> String {
    let path = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
    let done = Command::new(name).args(words).env("PATH", path).output().unwrap_or_else(|e| panic!("{name}: {e}"));
    let said = String::from_utf8_lossy(&done.stdout).into_owned();
    assert!(done.status.success(), "{name} {words:?}: {said}{}", String::from_utf8_lossy(&done.stderr));
    said
}

fn text(path: &Path) -> &str {
    path.to_str().expect("a test's path is text")
}

fn target() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../target").canonicalize().expect("it was built there")
}

/// The client with the C library in it.
fn program() -> PathBuf {
    let program = target().join("static/jetfrost");
    assert!(program.exists(), "{} is not built: make test-machine", program.display());
    program
}

/// A system as its distribution installs it, in a directory; it is fetched once.
fn system(at: &Path) {
    let fetched = target().join("machine/system");
    if !fetched.exists() {
        let unfinished = target().join("machine/unfinished");
        // One that was interrupted may have left the kernel's own files mounted in it.
        ["proc", "sys"].iter().for_each(|name| drop(Command::new("umount").arg("-l").arg(unfinished.join(name)).output()));
        let _ = fs::remove_dir_all(&unfinished);
        fs::create_dir_all(&unfinished).expect("made");
        let more = "--include=linux-image-amd64,systemd-sysv,acl,libcap2-bin,libnss-myhostname";
        tool("debootstrap", &["--variant=minbase", more, "trixie", text(&unfinished)]);
        fs::rename(&unfinished, &fetched).expect("renamed");
    }
    tool("cp", &["-a", text(&fetched), text(at)]);
}

/// What makes it a machine of its own: a name, an account whose number is nobody's here, an access list, a capability, and names that are
/// looked up by modules, which another system's program cannot load.
fn settled(root: &Path) {
    let write = |name: &str, content: &str| fs::write(root.join(name), content).expect("written");
    write("etc/hostname", &format!("{NAME}\n"));
    write("etc/hosts", "127.0.0.1 localhost\n");
    write("etc/fstab", "/dev/vda / ext4 defaults 0 1\n");
    write("etc/nsswitch.conf", "passwd: files systemd\ngroup: files systemd\nhosts: myhostname files dns\n");
    let inside = |words: &[&str]| tool("chroot", &[&[text(root)], words].concat());
    inside(&["useradd", "-m", "-u", "4711", "surveyor"]);
    write("home/surveyor/notes", "benchmark 14\n");
    inside(&["chown", "surveyor:surveyor", "/home/surveyor/notes"]);
    inside(&["setfacl", "-m", "u:daemon:r", "/home/surveyor/notes"]);
    inside(&["cp", "/usr/bin/true", "/usr/local/bin/sound"]);
    inside(&["setcap", "cap_net_raw+ep", "/usr/local/bin/sound"]);
    fs::copy(program(), root.join("usr/local/bin/jetfrost")).expect("copied");
}

/// Joins as that machine, and makes a recovery point of all of it.
fn back_up(root: &Path, code: &str) {
    let commands = format!(
        "mount -t proc proc '{root}/proc' && mount --rbind /dev '{root}/dev' && JETFROST_PASSPHRASE='{PASSPHRASE}' chroot '{root}' sh -euc \
         'jetfrost join {code} --name {NAME} --include / --exclude /dev --exclude /proc --exclude /sys --exclude /run \
          --recovery-key-file /home/surveyor/recovery-key --agent no --json && jetfrost backup --quiet'",
        root = root.display()
    );
    // What is mounted for it goes with the commands.
    tool("unshare", &["--mount", "sh", "-euc", &commands]);
}

/// What the rescue medium does. Whoever stands before it types the same.
fn steps(office: &Office) -> String {
    format!(
        r#"#!/rescue/busybox sh
B=/rescue/busybox
export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/tmp JETFROST_PASSWORD='{PASSWORD}' JETFROST_PASSPHRASE='{PASSPHRASE}'
$B mkdir -p /proc /sys /dev /mnt /tmp
$B mount -t proc proc /proc; $B mount -t sysfs sys /sys; $B mount -t devtmpfs dev /dev
for module in virtio_pci virtio_blk virtio_net ext4; do modprobe $module; done
$B ip link set eth0 up; $B ip addr add 10.0.2.15/24 dev eth0
$B mount -t ext4 /dev/vda /mnt
J="/rescue/jetfrost --state-directory /tmp/jetfrost"
$J sign-in 10.0.2.2:{port} --login {ADMINISTRATOR} --fingerprint {fingerprint}
$J rebuild --of {NAME} --to /mnt --confirm {NAME} --read-back 100 --checklist /mnt/home/surveyor/checklist.json
echo "the rebuild ended with $?"
$B umount /mnt
$B poweroff -f
"#,
        port = office.port(),
        fingerprint = office.fingerprint(),
    )
}

/// A rescue medium: what the distribution starts from, with the steps in place of its own, a shell, and the program.
fn medium(office: &Office, root: &Path) -> PathBuf {
    let (files, medium) = (office.path("medium"), office.path("medium.img"));
    fs::create_dir_all(files.join("rescue")).expect("made");
    fs::write(files.join("init"), steps(office)).expect("written");
    fs::set_permissions(files.join("init"), fs::Permissions::from_mode(0o755)).expect("set");
    fs::copy("/bin/busybox", files.join("rescue/busybox")).expect("copied");
    fs::copy(program(), files.join("rescue/jetfrost")).expect("copied");
    let initial = only(&root.join("boot"), "initrd.img-");
    // Archives one after the other are one, each beginning at a whole word: what comes later takes the place of what came before.
    let made = format!(
        "cat '{}' > '{1}' && truncate -s %512 '{1}' && cd '{2}' && find . | cpio --quiet -o -H newc >> '{1}'",
        initial.display(),
        medium.display(),
        files.display()
    );
    tool("sh", &["-euc", &made]);
    medium
}

fn only(directory: &Path, begins: &str) -> PathBuf {
    let names = fs::read_dir(directory).expect("a directory").map(|entry| entry.expect("an entry").path());
    let mut found: Vec<PathBuf> =
        names.filter(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(begins))).collect();
    assert_eq!(found.len(), 1, "{begins}: {found:?}");
    found.remove(0)
}

/// Starts a machine; its serial port is the terminal.
fn start(kernel: &Path, initial: &Path, disk: &Path, more: &str) -> Terminal {
    let drive = format!("file={},format=raw,if=virtio", disk.display());
    let mut command = Command::new("qemu-system-x86_64");
    command
        .args(["-accel", "tcg", "-cpu", "max", "-m", "1024", "-smp", "2", "-nographic", "-no-reboot"])
        .args(["-nic", "user,model=virtio-net-pci", "-kernel", text(kernel), "-initrd", text(initial)])
        .args(["-append", &format!("console=ttyS0 {more}"), "-drive", &drive]);
    Terminal::of(&mut command, PATIENCE)
}

#[test]
#[ignore = "takes minutes, root and packages of its own: make test-machine"]
fn a_machine_that_is_gone_is_rebuilt_by_a_rescue_medium_and_starts() {
    let office = Office::open();
    office.destination("shelf");
    let root = office.path("machine");
    system(&root);
    settled(&root);
    back_up(&root, &office.code(ADMINISTRATOR).to_text());
    let medium = medium(&office, &root);
    let kernel = office.path("kernel");
    fs::copy(only(&root.join("boot"), "vmlinuz-"), &kernel).expect("copied");
    fs::remove_dir_all(&root).expect("gone");

    let disk = office.path("disk.img");
    fs::File::create(&disk).and_then(|file| file.set_len(3 << 30)).expect("made");
    tool("mkfs.ext4", &["-q", text(&disk)]);
    let mut rescue = start(&kernel, &medium, &disk, "quiet");
    let said = rescue.shows("the rebuild ended with");
    assert!(said.contains("Everything that the backup has is there as it was."), "{said}");
    rescue.ends(0);

    tool("e2fsck", &["-fn", text(&disk)]);
    let inside = |request: &str| tool("debugfs", &["-R", request, text(&disk)]);
    assert_eq!(inside("cat /home/surveyor/notes"), "benchmark 14\n");
    let notes = inside("stat /home/surveyor/notes");
    assert!(notes.contains("User:  4711") && notes.contains("system.posix_acl_access"), "{notes}");
    assert!(inside("stat /usr/local/bin/sound").contains("security.capability"));
    let initial = office.path("initial");
    let name = inside("ls -p /boot").split('/').find(|name| name.starts_with("initrd.img-")).expect("it is there").to_owned();
    inside(&format!("dump /boot/{name} {}", initial.display()));
    let mut machine = start(&kernel, &initial, &disk, "root=/dev/vda rw systemd.show_status=true");
    let said = machine.shows(&format!("{NAME} login:"));
    assert!(!said.contains("[FAILED]"), "{said}");
}
