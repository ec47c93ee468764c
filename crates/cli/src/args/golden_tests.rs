//! The wording of every command's help, kept in `golden/help`, one file a command.

use std::fmt::Write as _;
use std::path::Path;

use clap::CommandFactory;

/// The width at which help is laid out here.
const WIDTH: usize = 100;

/// The help of a command and of those below it.
fn whole_help(command: &clap::Command, path: &str, text: &mut String) {
    let mut shown = command
        .clone()
        .mut_args(|arg| arg.hide_env_values(true))
        .term_width(WIDTH)
        .bin_name(path)
        .disable_help_subcommand(true);
    write!(text, "$ {path} --help\n{}\n", shown.render_long_help()).expect("a string takes text");
    for below in command.get_subcommands().filter(|below| below.get_name() != "help") {
        whole_help(below, &format!("{path} {}", below.get_name()), text);
    }
}

/// Compares with the file, or writes it when `MERISMOS_WRITE_GOLDEN` is set.
fn compare(name: &str, text: &str) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("golden/help").join(format!("{name}.txt"));
    if std::env::var_os("MERISMOS_WRITE_GOLDEN").is_some() {
        std::fs::create_dir_all(file.parent().expect("a folder")).unwrap();
        std::fs::write(&file, text).unwrap();
        return;
    }
    let expected = std::fs::read_to_string(&file).unwrap_or_default();
    let differs = expected.lines().zip(text.lines()).find(|(expected, found)| expected != found);
    assert!(
        expected == text,
        "the help of {name} differs from {}: {differs:?}. MERISMOS_WRITE_GOLDEN=1 writes it anew.",
        file.display()
    );
}

#[test]
fn the_help_of_each_command_is_as_it_was_read() {
    let mut commands = super::CommandLine::command().mut_args(|arg| arg.hide_env_values(true));
    commands.build();
    let mut top = commands.clone().term_width(WIDTH);
    compare("merismos", &format!("$ merismos --help\n{}\n", top.render_long_help()));
    for command in commands.get_subcommands().filter(|below| below.get_name() != "help") {
        let mut text = String::new();
        whole_help(command, &format!("merismos {}", command.get_name()), &mut text);
        let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
        compare(command.get_name(), &(lines.join("\n") + "\n"));
    }
}
