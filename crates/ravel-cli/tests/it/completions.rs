//! Completions, tried in the shells, and manual pages.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::common::{folder, run};

/// What a script prints in a shell that finds `ravel`.
fn in_shell(shell: &str, script: &str, place: &Path) -> String {
    let binary = Path::new(env!("CARGO_BIN_EXE_ravel")).parent().unwrap();
    let path = format!("{}:{}", binary.display(), std::env::var("PATH").unwrap_or_default());
    let output = Command::new(shell)
        .args(["-c", script])
        .env("PATH", path)
        .env("HOME", place)
        .current_dir(place)
        .output()
        .unwrap_or_else(|error| panic!("{shell}: {error}"));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{shell}: {text}{}", String::from_utf8_lossy(&output.stderr));
    text
}

#[test]
fn bash_completes_commands_and_options() {
    let folder = folder(&[]);
    let complete = |words: &str| {
        let script = format!(
            "source <(ravel completions bash); COMP_WORDS=({words}); COMP_CWORD=$((${{#COMP_WORDS[@]}} - 1)); \
             _ravel ravel \"${{COMP_WORDS[-1]}}\" x; echo \"${{COMPREPLY[@]}}\""
        );
        in_shell("bash", &script, folder.path())
    };
    assert_eq!(complete("ravel che").trim(), "check");
    assert!(complete("ravel check --fa").contains("--fail-on"));
    assert!(complete("ravel domain p").contains("plan"));
    assert!(complete("ravel completions po").contains("powershell"));
}

#[test]
#[ignore = "needs fish and zsh"]
fn fish_and_zsh_complete_commands() {
    let folder = folder(&[]);
    let fish =
        "ravel completions fish | source; complete -C 'ravel che'; complete -C 'ravel test --co'";
    let text = in_shell("fish", fish, folder.path());
    assert!(text.contains("check\t") && text.contains("--coverage\t"), "{text}");
    let zsh = "mkdir -p f; ravel completions zsh > f/_ravel; fpath=($PWD/f $fpath); \
               autoload -Uz compinit; compinit -u -d dump; print -r -- $_comps[ravel]; \
               autoload +X -Uz _ravel; functions _ravel | grep -c fail-on";
    let text = in_shell("zsh", zsh, folder.path());
    let lines: Vec<&str> = text.lines().collect();
    assert!(lines[0] == "_ravel" && lines[1].parse::<u32>().unwrap() > 0, "{text}");
}

#[test]
fn each_command_has_a_manual_page() {
    let folder = folder(&[]);
    assert_eq!(run(folder.path(), &["man", "man1"], "").0, 0);
    let (_, help, _) = run(folder.path(), &["--help"], "");
    for command in ["explain", "test", "check", "domain", "build", "serve", "fmt", "demo"] {
        assert!(help.contains(&format!("\n  {command} ")), "{command} is not in {help}");
        let page =
            fs::read_to_string(folder.path().join(format!("man1/ravel-{command}.1"))).unwrap();
        assert!(page.contains(".SH SYNOPSIS") && page.contains("Exit status"), "{page}");
        let (status, text, _) = run(folder.path(), &[command, "--help"], "");
        assert!(status == 0 && text.contains("Exit status: 0"), "{text}");
    }
    for hidden in ["completions", "man "] {
        assert!(!help.contains(&format!("\n  {hidden}")), "{help}");
    }
}
