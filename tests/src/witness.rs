//! Independent witnesses: what system tools say of a tree, to compare a restored one with its source.

use std::path::Path;
use std::process::Command;

/// Everything that system tools can tell of a tree, as sorted lines: kinds, permissions, owners, times in nanoseconds,
/// sizes, link targets, device numbers, which names are one file, holes, extended attributes, ACLs, content hashes.
#[must_use]
pub fn listing(tree: &Path) -> Vec<String> {
    let mut lines = Vec::new();
    // %y kind, %m mode, %U %G ids, %u %g names, %T@ time, %s size (folders have none of their own), %l target.
    let printf = "%P\\t%y %m %U:%G %u:%g %T@ %l\\n";
    lines.extend(lines_of(tree, &format!("find . -mindepth 1 -printf '{printf}'")));
    lines.extend(lines_of(tree, "find . -type f -printf '%P\\tsize %s links %n\\n'"));
    lines.extend(lines_of(tree, "find . -type f -print0 | sort -z | xargs -0r sha256sum"));
    lines.extend(lines_of(tree, "find . \\( -type b -o -type c \\) -print0 | sort -z | xargs -0r stat -c '%n device %t:%T'"));
    lines.extend(lines_of(tree, "find . -print0 | sort -z | xargs -0r getfattr --absolute-names -h -d -m - -e hex"));
    lines.extend(lines_of(tree, "find . ! -type l -print0 | sort -z | xargs -0r getfacl --absolute-names -n"));
    lines.extend(groups_of_links(tree));
    lines
}

/// Names that are one file, as groups without their inode numbers.
fn groups_of_links(tree: &Path) -> Vec<String> {
    let script = "find . -type f -links +1 -printf '%i %P\\n' | sort | awk '{ i=$1; sub(/^[^ ]* /, \"\"); g[i]=g[i] \" = \" $0 } END { for (i in g) print g[i] }' | sort";
    lines_of(tree, script)
}

/// Where files have data, as `offset+length` in units of 4 KiB, found with `SEEK_DATA` and `SEEK_HOLE` by another program.
#[must_use]
pub fn data_map(file: &Path) -> String {
    let script = "
import os, sys
fd = os.open(sys.argv[1], os.O_RDONLY); size = os.fstat(fd).st_size; at = 0; out = []
while at < size:
    try: data = os.lseek(fd, at, os.SEEK_DATA)
    except OSError: break
    hole = os.lseek(fd, data, os.SEEK_HOLE); out.append('%d+%d' % (data // 4096, (hole - data + 4095) // 4096)); at = hole
print(size, ' '.join(out))";
    let output = Command::new("python3").args(["-c", script]).arg(file).output().expect("python3 runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn lines_of(tree: &Path, script: &str) -> Vec<String> {
    let output =
        Command::new("bash").args(["-c", &format!("set -o pipefail; export LC_ALL=C; {script}")]).current_dir(tree).output();
    let output = output.expect("bash runs");
    assert!(output.status.success(), "{script}: {}", String::from_utf8_lossy(&output.stderr));
    let mut lines: Vec<String> = output.stdout.split(|b| *b == b'\n').map(|l| l.escape_ascii().to_string()).collect();
    // What belongs together keeps its order in the output of getfattr and getfacl; find's order is the disk's.
    if script.starts_with("find . -mindepth") || script.contains("size %s") {
        lines.sort_unstable();
    }
    lines
}
