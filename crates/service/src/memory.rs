//! Memory that was freed goes back to the system when it is not used again.
//!
//! The allocator keeps what each thread frees for its next need. After a burst of clients, of the API or of traffic, that can be
//! many times what the service needs, and another program of the machine may want it.

use std::path::Path;
use std::time::Duration;

/// What a machine has that does not say how much.
const UNKNOWN: u64 = 1 << 30;
/// How often it is looked at. What was freed is back with the system after two looks.
const LOOK_EVERY: Duration = Duration::from_secs(4);
/// How much may lie unused before it is given back: less than this is reused sooner than it is missed.
const MAY_LIE_UNUSED: u64 = 12 << 20;

/// How much memory this process may have at most: the machine's, or what its control group allows (cgroups(7), version 2).
pub(crate) fn available() -> u64 {
    let text = |path: &Path| std::fs::read_to_string(path).unwrap_or_default();
    let machine = text(Path::new("/proc/meminfo"));
    let total = machine.lines().find_map(|line| line.strip_prefix("MemTotal:")?.trim().strip_suffix(" kB"));
    let machine = total.and_then(|total| total.parse::<u64>().ok()).map_or(UNKNOWN, |total| total << 10);
    let groups = text(Path::new("/proc/self/cgroup"));
    let own = groups.lines().find_map(|line| line.strip_prefix("0::/")).unwrap_or_default();
    let limits = Path::new(own).ancestors().filter_map(|group| {
        text(&Path::new("/sys/fs/cgroup").join(group).join("memory.max")).trim().parse::<u64>().ok()
    });
    limits.fold(machine, u64::min)
}

/// Starts looking, on a thread of its own that does nothing else.
pub(crate) fn watch() -> std::io::Result<()> {
    std::thread::Builder::new().name("memory".to_owned()).spawn(look_for_ever).map(drop)
}

fn look_for_ever() {
    let mut lay_unused = 0;
    loop {
        std::thread::sleep(LOOK_EVERY);
        let unused = unused();
        // What lay unused at both looks was not needed between them.
        if unused.min(lay_unused) > MAY_LIE_UNUSED {
            give_back();
            lay_unused = 0;
        } else {
            lay_unused = unused;
        }
    }
}

/// Bytes in memory that the allocator has and nothing uses.
fn unused() -> u64 {
    let Some(resident) = resident() else { return 0 };
    resident.saturating_sub(in_use())
}

/// Bytes of this process's own that are in memory (proc(5), `statm`).
fn resident() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/self/statm").ok()?;
    let mut pages = text.split_whitespace().skip(1).map(|word| word.parse::<u64>().ok());
    let (resident, shared) = (pages.next()??, pages.next()??);
    Some(resident.saturating_sub(shared) * rustix::param::page_size() as u64)
}

/// Bytes that are in use of what the allocator has.
#[cfg(target_env = "gnu")]
#[allow(unsafe_code)]
fn in_use() -> u64 {
    // SAFETY: it takes no pointer and only reads the allocator's own counts, under its locks.
    let info = unsafe { libc::mallinfo2() };
    (info.uordblks + info.hblkhd) as u64
}

#[cfg(not(target_env = "gnu"))]
fn in_use() -> u64 {
    u64::MAX
}

/// Gives what has been freed back to the system.
#[cfg(target_env = "gnu")]
#[allow(unsafe_code)]
fn give_back() {
    // SAFETY: it takes no pointer and touches nothing but what the allocator has free.
    unsafe { libc::malloc_trim(0) };
}

#[cfg(not(target_env = "gnu"))]
fn give_back() {}
