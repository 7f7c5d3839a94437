//! Functions of the service that need no service. Here, and not beside them, so that the service is built once.

mod shown {
    use yellow_attic_server::strangers::preview::{Kind, kind_of};

    #[test]
    fn what_could_run_is_shown_as_text() {
        for name in ["a.html", "a.SVG", "a.js", "a.md"] {
            assert_eq!(kind_of(name), Kind::Text, "{name}");
        }
        assert_eq!(kind_of("a.pdf"), Kind::Pdf);
        assert_eq!(kind_of("a.exe"), Kind::Other);
    }
}

mod guests {
    use yellow_attic_server::api::people::guests::name_for;

    #[test]
    fn a_guest_gets_a_free_name_that_can_be() {
        assert_eq!(name_for("Nora.Vale@harbour.example", |_| false), "nora.vale");
        assert_eq!(name_for("nora.vale@harbour.example", |n| n == "nora.vale"), "nora.vale-2");
        assert_eq!(name_for("..-@x.example", |_| false), "guest");
        assert_eq!(name_for("Åse+kayak@x.example", |_| false), "sekayak");
    }
}

mod public {
    use std::collections::BTreeMap;
    use yellow_attic_server::identity::public_address::check_config;

    fn bad_with(flags: &[(&'static str, &str)]) -> Vec<String> {
        let flags: BTreeMap<_, _> = flags.iter().map(|(k, v)| (*k, v.to_string())).collect();
        let config =
            yellow_attic_server::config::read(Some(std::path::Path::new("/dev/null")), &|_| None, &flags)
                .unwrap();
        let address = config.public_address.clone().unwrap_or_else(|| format!("http://{}", config.listen));
        check_config(&config, &address).into_iter().filter(|f| !f.good).map(|f| f.what).collect()
    }

    #[test]
    fn what_a_stranger_would_get_is_told_before_they_get_it() {
        assert!(bad_with(&[])[0].contains("No public address"));
        assert!(bad_with(&[("public_address", "http://10.0.0.5:7460")])[0].contains("only inside"));
        assert!(bad_with(&[("public_address", "http://files.example.org")])[0].contains("without TLS"));
        let behind = ("public_address", "https://files.example.org");
        assert!(bad_with(&[behind])[0].contains("no proxy is trusted"));
        assert_eq!(bad_with(&[behind, ("trusted_proxies", "10.0.0.2")]), Vec::<String>::new());
    }
}

mod config {
    use std::collections::BTreeMap;
    use std::path::Path;
    use yellow_attic_server::config::{Config, ConfigError, read};

    fn with(env: &[(&str, &str)], flags: &[(&'static str, &str)]) -> Result<Config, ConfigError> {
        let env: BTreeMap<_, _> = env.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect();
        read(
            Some(Path::new("/dev/null")),
            &|k| env.get(k).cloned(),
            &flags.iter().map(|(k, v)| (*k, v.to_string())).collect(),
        )
    }

    #[test]
    fn flags_win_over_the_environment_and_each_value_knows_its_source() {
        let c =
            with(&[("YATTIC_LISTEN", "0.0.0.0:1"), ("YATTIC_LOG", "debug")], &[("listen", "127.0.0.1:2")])
                .unwrap();
        assert_eq!(c.listen.port(), 2);
        let source = |k| c.sources.iter().find(|s| s.key == k).unwrap().source.clone();
        assert_eq!(source("listen"), "flag --listen");
        assert_eq!(source("log"), "environment YATTIC_LOG");
        assert_eq!(source("data"), "default");
    }

    #[test]
    fn errors_name_the_key_the_value_and_the_remedy() {
        for (key, value) in [
            ("listen", "here"),
            ("public_address", "https://a/b"),
            ("trusted_proxies", "me"),
            ("tls_certificate", "/etc/cert.pem"),
            ("metrics_listen", "7462"),
            ("largest_file", "many"),
            ("sender_patience", "0"),
            ("sender_patience", "two minutes"),
            ("largest_file", "99999999999 TiB"),
            ("organisation", ""),
            ("organisation_colour", "yellow"),
            ("organisation_logo", "/dev/null"),
            ("mail_server", "mail.example.org:many"),
            ("log", "loud"),
            ("log_format", "xml"),
            ("data", ""),
        ] {
            let e = with(&[], &[(key, value)]).unwrap_err();
            // Of a pair, the one that is missing is named.
            let wanted = if key == "tls_certificate" { ("tls_key", "") } else { (key, value) };
            assert_eq!((e.key.as_str(), e.value.as_str()), wanted);
            assert!(!e.remedy.is_empty());
        }
    }
}

mod parts {
    use std::io::Read;
    use yellow_attic_core::NodeId;
    use yellow_attic_server::state::archives::Format;
    use yellow_attic_server::transfer::archive::parts::Layout;
    use yellow_attic_store::timeline::tree::TreeItem;

    fn item(path: &str, folder: bool, size: u64) -> TreeItem {
        TreeItem {
            path: path.into(),
            node: NodeId(7),
            folder,
            size,
            mtime: 1_793_636_431_250,
            executable: false,
        }
    }

    #[test]
    fn both_formats_are_as_long_as_announced_and_read_back() {
        let long = format!("folder/{}/ü.txt", "x".repeat(150));
        let items = [
            item("folder", true, 0),
            item("folder/a.txt", false, 700),
            item(&long, false, 0),
            item("b", false, 512),
        ];
        for format in [Format::Zip, Format::Tar] {
            let layout = Layout::of(format, &items);
            let mut bytes = Vec::new();
            let mut central = Vec::new();
            for item in &items {
                let offset = bytes.len() as u64;
                let data = vec![b'x'; item.size as usize];
                let crc = crc32fast::hash(&data);
                bytes.extend(layout.head(item));
                bytes.extend(&data);
                bytes.extend(layout.tail(item, crc));
                central.extend(layout.central(item, crc, offset));
            }
            let at = bytes.len() as u64;
            bytes.extend(&central);
            bytes.extend(layout.end(items.len() as u64, at, central.len() as u64));
            assert_eq!(bytes.len() as u64, layout.length(), "{format:?}");
            if format == Format::Tar {
                let mut found = Vec::new();
                for entry in tar::Archive::new(&bytes[..]).entries().unwrap() {
                    let mut entry = entry.unwrap();
                    let mut data = Vec::new();
                    entry.read_to_end(&mut data).unwrap();
                    found.push((entry.path().unwrap().to_str().unwrap().to_string(), data.len() as u64));
                }
                let wanted: Vec<_> = items
                    .iter()
                    .map(|i| (format!("{}{}", i.path, if i.folder { "/" } else { "" }), i.size))
                    .collect();
                assert_eq!(found, wanted);
            }
        }
    }
}

mod description {
    #[test]
    fn the_consoles_types_are_made_from_the_present_description() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/api-schemas.json");
        let kept: serde_json::Value = serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap();
        let (kept, now) = (
            &kept["components"]["schemas"],
            &yellow_attic_server::api::description()["components"]["schemas"],
        );
        let differ: Vec<&String> = now
            .as_object()
            .unwrap()
            .keys()
            .chain(kept.as_object().unwrap().keys())
            .filter(|name| kept[name.as_str()] != now[name.as_str()])
            .collect();
        assert!(differ.is_empty(), "run ./dev types: {differ:?} are described otherwise now");
    }
}

mod console {
    #[test]
    fn the_consoles_own_units_hold() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console");
        let run = std::process::Command::new("npm")
            .args(["run", "-s", "test"])
            .current_dir(folder)
            .output()
            .unwrap();
        let said =
            format!("{}{}", String::from_utf8_lossy(&run.stdout), String::from_utf8_lossy(&run.stderr));
        assert!(run.status.success(), "{said}");
        assert!(said.contains("Tests") && !said.contains("no tests"), "{said}");
    }
}

mod refusals {
    use actix_web::ResponseError;
    use yellow_attic_core::NodeId;
    use yellow_attic_core::intake::KindError;
    use yellow_attic_server::http::problem::Refusal;
    use yellow_attic_server::identity::doors::shut_out;
    use yellow_attic_store::StoreError;

    fn check(refusal: &Refusal, code: &str) {
        let known = yellow_attic_api::refusals::ALL.iter().find(|k| k.code == code).unwrap();
        assert_eq!((refusal.code(), refusal.status_code().as_u16()), (code, known.status));
    }

    /// What the disk's own words say is for the desk.
    const PATH: &str = "/srv/attic/shelves/main/home/ines";

    #[test]
    fn what_the_store_refuses_has_its_code_and_never_a_path_of_the_machine() {
        let text = || "plans".to_string();
        let path = || PATH.to_string();
        for (error, code) in [
            (StoreError::NotFound(text()), "not_found"),
            (StoreError::NotAllowed { need: "edit", have: "view" }, "not_allowed"),
            (StoreError::PlanStale, "plan_stale"),
            (StoreError::NotHeld(text()), "not_held"),
            (StoreError::RollingBack(text()), "rolling_back"),
            (StoreError::NotThereYet { name: text(), made: text() }, "not_there_yet"),
            (StoreError::NewerState { name: text(), changed: text() }, "newer_state"),
            (StoreError::KeptByRule(text(), text()), "kept"),
            (StoreError::NameTaken(text()), "name_taken"),
            (StoreError::LastAdministrator, "last_administrator"),
            (StoreError::NameUnusable(text()), "name_unusable"),
            (StoreError::HoldsOthers, "holds_others"),
            (StoreError::Widens(text()), "widens"),
            (StoreError::FolderInTheWay(text()), "folder_in_the_way"),
            (StoreError::NotAFolder(text()), "not_a_folder"),
            (StoreError::NotAFile(text()), "not_a_file"),
            (StoreError::ConditionFailed { present: None }, "changed_meanwhile"),
            (StoreError::IntoItself, "into_itself"),
            (StoreError::TooDeep(300), "path_too_deep"),
            (StoreError::ShelfTop, "shelf_top"),
            (StoreError::Exists(text()), "exists"),
            (StoreError::ShortBody { announced: 9, got: 3 }, "body_cut_short"),
            (StoreError::BrokenBody(3), "body_cut_short"),
            (StoreError::MoreThanAnnounced(9), "more_than_announced"),
            (StoreError::LengthKnown(9), "length_known"),
            (StoreError::BrokenPart(3), "part_cut_short"),
            (StoreError::WrongOffset { offset: 1, present: 2 }, "wrong_offset"),
            (StoreError::WrongHash, "wrong_hash"),
            (
                StoreError::Locked { name: text(), node: NodeId(1), by: text(), until: 1, by_token: true },
                "locked",
            ),
            (StoreError::TakenOver, "taken_over"),
            (StoreError::TooManyUploads(9), "too_many_uploads"),
            (StoreError::TooMuchAnnounced { announced: 9, most: 8 }, "too_much_announced"),
            (StoreError::TooMany(9), "archive_too_large"),
            (StoreError::TooLarge(9), "file_too_large"),
            (StoreError::QuotaFull { shelf: text(), line: 9, used: 8, claimed: 1, wanted: 1 }, "quota_full"),
            (StoreError::OpeningRefused { what: "links", why: text() }, "opening_refused"),
            (StoreError::OpeningTooLong { what: "links", days: 3, longest: 1 }, "opening_too_long"),
            (StoreError::BadEnding(text()), "ending_cannot_be"),
            (StoreError::EndingTaken(text()), "ending_taken"),
            (StoreError::UsedUp, "used_up"),
            (StoreError::OtherKind(KindError::Unknown(text())), "kind_unknown"),
            (StoreError::OtherKind(KindError::Other { name: text(), taken: text() }), "kind_not_taken"),
            (StoreError::OtherKind(KindError::Lies { name: text() }), "kind_lies"),
            (StoreError::DeliveryTooLarge(9), "delivery_too_large"),
            (StoreError::DeliveryDone, "delivery_done"),
            (StoreError::NothingDelivered, "nothing_delivered"),
            (StoreError::DiskFull { free: 1, reserve: 2 }, "disk_full"),
            (StoreError::NoMoreFiles { free: 1, reserve: 2 }, "disk_full"),
            (StoreError::ReadOnlyDisk, "disk_read_only"),
            (StoreError::WritesStopped(text()), "writes_stopped"),
            (StoreError::SecretsShut(path()), "secrets_key_missing"),
            (StoreError::ShelfMissing(path()), "shelf_missing"),
            (StoreError::ShelfStopped { shelf: text(), reason: path() }, "shelf_stopped"),
            (StoreError::BytesMissing(text()), "bytes_missing"),
            (StoreError::Unreadable { path: text(), reason: text() }, "bytes_unreadable"),
            (StoreError::NotPlain(text()), "not_a_plain_file"),
            (StoreError::NoStore(text()), "no_store"),
            (StoreError::OtherDevice(text()), "no_store"),
            (StoreError::NoSuchMoment, "no_such_moment"),
            (StoreError::Forgotten, "forgotten"),
            (StoreError::PlaceGone, "place_gone"),
            (StoreError::StillHere, "still_here"),
            (StoreError::Busy, "busy"),
            (StoreError::BadInput(text()), "bad_input"),
            (StoreError::Stopping, "stopping"),
            (StoreError::io(path(), &std::io::Error::other(PATH)), "internal"),
            (StoreError::Catalogue(path()), "internal"),
            (StoreError::DamagedRow(path()), "row_damaged"),
        ] {
            let refusal = Refusal::from(error);
            check(&refusal, code);
            let problem = refusal.into_problem();
            assert!(
                !problem.title.is_empty() && !problem.detail.is_empty() && !problem.remedy.is_empty(),
                "{problem:?}"
            );
            let told = serde_json::to_string(&problem).unwrap();
            assert!(!told.contains(PATH), "{told}");
        }
    }

    #[test]
    fn refusals_without_a_service_have_their_codes() {
        check(&Refusal::crowded(), "too_many_at_once");
        check(&yellow_attic_server::http::qr::qr(&"x".repeat(4_000)).unwrap_err(), "too_long_for_a_code");
        check(&yellow_attic_server::state::throttle::too_busy(), "sign_ins_waiting");
        let alarm = yellow_attic_store::timeline::alarms::Alarm {
            id: 1,
            shelf: yellow_attic_core::ShelfId(1),
            account: None,
            device: None,
            before: yellow_attic_core::Moment(1),
            from_at: 1,
            to_at: 2,
            files: 60,
            of: 90,
            ending: None,
            raised_at: 2,
            shut: true,
            settled_at: None,
        };
        check(&shut_out("This computer was disconnected", &alarm), "shut_out");
    }
}
