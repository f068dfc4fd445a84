//! Who may issue a certificate, as RFC 8659 says.

use crate::common::{rules, zone};
use ravel::rules::Code;
use ravel_dns::Plan;

/// What is found of a host's CAA records: nothing, the authorities that are allowed, or that nobody is.
fn found(records: &str) -> String {
    let rules = rules("host site.host.example\naddress 192.0.2.44");
    let zone = zone(&format!("@ A 192.0.2.44\n{records}\n"));
    let findings = Plan::new(rules.site(), &rules.domains()[0], &zone).findings();
    let one = findings
        .iter()
        .find(|finding| matches!(finding.code(), Code::CaaForbids | Code::CaaRestricts));
    match one.map(|finding| (finding.code(), finding.message())) {
        None => String::new(),
        Some((Code::CaaForbids, _)) => "nobody".to_owned(),
        Some((_, message)) => message.split('`').skip(1).step_by(2).collect::<Vec<_>>().join(" "),
    }
}

#[test]
fn issuers_are_read_as_the_standard_says() {
    for (records, wanted) in [
        (r#"@ CAA 0 iodef "mailto:a@b.example""#, ""),
        (r#"@ CAA 0 issue "ca.example""#, "ca.example"),
        (r#"@ CAA 0 ISSUE " CA.Example ""#, "ca.example"),
        (r#"@ CAA 0 issue "ca.example;""#, "ca.example"),
        (r#"@ CAA 0 issue "ca.example; account=7; policy = ev""#, "ca.example"),
        (r#"@ CAA 0 issue "c\097\046example""#, "ca.example"),
        (r#"@ CAA 0 issue ca.example"#, "ca.example"),
        (
            "@ CAA 0 issue \"ca.example\"\n@ CAA 0 issue \"other.example\"",
            "ca.example other.example",
        ),
        // Malformed values name nobody, as `;` does.
        (r#"@ CAA 0 issue ";""#, "nobody"),
        (r#"@ CAA 0 issue """#, "nobody"),
        (r#"@ CAA 0 issue "ca_.example""#, "nobody"),
        (r#"@ CAA 0 issue "-ca.example""#, "nobody"),
        (r#"@ CAA 0 issue "ca..example""#, "nobody"),
        (r#"@ CAA 0 issue "ca.example.""#, "nobody"),
        (r#"@ CAA 0 issue "ca.example account=7""#, "nobody"),
        (r#"@ CAA 0 issue "ca.example; account""#, "nobody"),
        (r#"@ CAA 0 issue "ca.example; a=1;""#, "nobody"),
        ("@ CAA 0 issue \"?\"\n@ CAA 0 issue \"ca.example\"", "ca.example"),
        // A critical tag that nobody knows keeps everybody away (section 4.5).
        (r#"@ CAA 128 tbs "unknown""#, "nobody"),
        (r#"@ CAA 0 tbs "unknown""#, ""),
    ] {
        assert_eq!(found(records), wanted, "{records}");
    }
}
