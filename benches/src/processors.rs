//! How much of the processors others had while a bench ran.

/// What the processors did so far, in their own units.
pub(crate) struct Processors {
    worked: f64,
    /// Time in which a virtual machine could have worked and the host gave its processors to others.
    stolen: f64,
}

impl Processors {
    /// From the first line of `/proc/stat` (proc_stat(5)): user, nice, system, idle, waiting, two kinds of interrupts, stolen.
    pub(crate) fn now() -> Self {
        let stat = std::fs::read_to_string("/proc/stat").expect("there is one");
        let fields: Vec<f64> = stat.split_whitespace().skip(1).map_while(|field| field.parse().ok()).take(8).collect();
        let [user, nice, system, _, _, hard, soft, stolen] = fields[..] else { panic!("/proc/stat is another: {fields:?}") };
        Self { worked: user + nice + system + hard + soft, stolen }
    }

    /// The share that others had.
    pub(crate) fn taken_since(&self) -> f64 {
        let Self { worked, stolen } = Self::now();
        let stolen = stolen - self.stolen;
        stolen / (worked - self.worked + stolen).max(1.0)
    }
}
