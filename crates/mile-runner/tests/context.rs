//! What the findings are told of the legs of a run, beside its samples.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use mile_core::Bytes;
use mile_course::{DriveFacts, parse, plan};
use mile_runner::LaneHead;

#[test]
fn which_legs_go_in_the_order_of_addresses_is_known_from_the_course() {
    let course = "course \"c\"
leg soak
 write sequential, blocks 1 MiB, depth 4, for 1 min
leg anywhere
 read random, blocks 4 KiB, depth 1, for 1 min
leg forward
 scan forward, zones 64
leg any
 scan random, zones 64
leg pause
 rest for 1 min
";
    let facts = DriveFacts {
        capacity: Bytes(1 << 40),
        logical_block: Bytes(512),
        has_temperature: true,
        readable: true,
        cache: None,
        files: None,
    };
    let legs = plan(&parse(course).unwrap(), &facts).unwrap().legs;
    let context = LaneHead { legs, ..LaneHead::default() }.context();
    assert_eq!(context.in_one_go, ["soak"]);
    assert_eq!(context.from_zone_to_zone, ["any"]);
}
