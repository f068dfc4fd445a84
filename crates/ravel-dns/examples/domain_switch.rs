//! When everybody reaches a site after its records have changed, worked out without waiting.

use ravel::Rules;
use ravel_dns::{Moment, Plan, Timeline, Zone};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let rules = Rules::parse(
        "site https://lanternferries.example/\n  alias www.lanternferries.example\n\
         domain lanternferries.example\n  host lantern.edge-host.example\n  address 192.0.2.44\n  zone today.zone\n",
    )?;
    let today = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 2d A 203.0.113.80\nwww 1h CNAME parked.former-host.example.\n";
    let domain = &rules.domains()[0];
    let zone = Zone::of_domain(domain, |_| Ok::<_, std::io::Error>(today.into()))?
        .ok_or("no zone is named")?;

    let plan = Plan::new(rules.site(), domain, &zone);
    for row in plan.rows() {
        println!("{:<7} {} {}", row.action().name(), row.host(), row.kind());
    }
    let switch: Moment = "2027-03-01T06:00:00Z".parse()?;
    let course = Timeline::at_once(&plan, None, switch);
    for host in course.hosts() {
        if let Some(all) = host.all_new() {
            println!(
                "{} is reached by all {} h after the switch",
                host.host(),
                all.since(switch) / 3_600
            );
        }
    }
    println!("--- the new zone\n{}", zone.with(plan.changes()));
    Ok(())
}
