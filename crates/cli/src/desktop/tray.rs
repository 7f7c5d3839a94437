//! The icon in the desktop's tray, by the freedesktop StatusNotifierItem.

use super::Asks;
use ksni::menu::{MenuItem, StandardItem, SubMenu};
use tokio::sync::mpsc::UnboundedSender;
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;

/// So many recent files are offered.
const RECENT: usize = 10;

/// How all pairs are together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// All is the same.
    Same,
    /// Something is carried.
    Working,
    /// Nothing is carried for now.
    Paused,
    /// Somebody is needed.
    Needs,
}

/// What the icon shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    how: How,
    says: String,
    pairs: Vec<(String, String)>,
    /// Files that came or went last: what, and where they lie.
    recent: Vec<(String, String)>,
    paused: bool,
}

impl Seen {
    pub fn of(told: &[(About, Status)]) -> Seen {
        let needs = told.iter().find(|(_, status)| status.needs);
        let copies: usize = told.iter().map(|(_, status)| status.copies.len()).sum();
        let to_do: u64 = told.iter().map(|(_, status)| status.to_do).sum();
        let paused = !told.is_empty() && told.iter().all(|(about, _)| about.paused);
        let away = told.iter().find_map(|(_, status)| status.trouble.clone());
        let (how, says) = match (needs, told) {
            (Some((_, status)), _) => (How::Needs, status.trouble.clone().unwrap_or_default()),
            (None, []) => (How::Same, "No folder is kept the same yet".into()),
            (None, _) if copies > 0 => (How::Needs, format!("{copies} kept twice, to be settled")),
            (None, _) if paused => (How::Paused, "Paused".into()),
            (None, all) if away.is_some() || all.iter().any(|(_, status)| status.state == "working") => {
                (How::Working, away.unwrap_or_else(|| format!("At work: {to_do} to do")))
            }
            (None, _) => (How::Same, "All is the same".into()),
        };
        let mut recent: Vec<_> = told
            .iter()
            .flat_map(|(about, status)| status.lately.iter().map(move |deed| (about, deed)))
            .filter(|(_, deed)| matches!(deed.what.as_str(), "fetches" | "sends"))
            .collect();
        recent.sort_by(|(_, a), (_, b)| b.at.cmp(&a.at));
        let recent = recent.into_iter().take(RECENT).map(|(about, deed)| {
            let name = deed.path.rsplit('/').next().unwrap_or(&deed.path).to_string();
            (name, about.local.join(&deed.path).display().to_string())
        });
        Seen {
            how,
            says,
            pairs: told.iter().map(|(_, s)| (s.local.clone(), s.remote.clone())).collect(),
            recent: recent.collect(),
            paused,
        }
    }
}

/// The icon.
pub struct Icon {
    pub seen: Seen,
    pub ask: UnboundedSender<Asks>,
}

impl Icon {
    fn item(&self, label: impl Into<String>, asks: impl Fn() -> Asks + Send + 'static) -> MenuItem<Icon> {
        let activate = move |icon: &mut Icon| {
            let _ = icon.ask.send(asks());
        };
        // An underscore would mark a key.
        let label = label.into().replace('_', "__");
        StandardItem { label, activate: Box::new(activate), ..Default::default() }.into()
    }
}

/// Our mark, a roof over a window, so many points wide: alpha, red, green and blue of each.
pub fn mark(size: i32, how: How) -> Vec<u8> {
    let window: [u8; 3] = match how {
        How::Same => [0xf5, 0xb9, 0x16],
        How::Working => [0x2f, 0x8f, 0x98],
        How::Paused => [0xa7, 0x9f, 0x8f],
        How::Needs => [0xc8, 0x46, 0x2e],
    };
    // The roof is drawn light with a dark edge: trays are of both kinds.
    let (roof, edge) = ([0xef, 0xe9, 0xdc], [0x20, 0x1d, 0x18]);
    let scale = 36.0 / f64::from(size);
    let slope = |x: f64, y: f64| {
        let (dx, dy) = ((x - 18.0).abs(), y - 4.0);
        // How far from the line that goes down 11 in 15, and not beyond its ends.
        let along = (dx * 15.0 + dy * 11.0) / (15.0f64.hypot(11.0));
        let off = ((dy * 15.0 - dx * 11.0) / 15.0f64.hypot(11.0)).abs();
        if (0.0..=18.6).contains(&along) { off } else { f64::MAX }
    };
    let mut points = Vec::with_capacity((size * size * 4) as usize);
    for row in 0..size {
        for column in 0..size {
            let (x, y) = ((f64::from(column) + 0.5) * scale, (f64::from(row) + 0.5) * scale);
            let inside = |margin: f64| {
                (11.0 - margin..=25.0 + margin).contains(&x) && (17.0 - margin..=31.0 + margin).contains(&y)
            };
            let colour = match () {
                () if inside(0.0) => Some(window),
                () if slope(x, y) < 2.0 => Some(roof),
                () if inside(1.4) || slope(x, y) < 3.4 => Some(edge),
                () => None,
            };
            match colour {
                Some([red, green, blue]) => points.extend([255, red, green, blue]),
                None => points.extend([0; 4]),
            }
        }
    }
    points
}

impl ksni::Tray for Icon {
    fn id(&self) -> String {
        "yellow-attic".into()
    }

    fn title(&self) -> String {
        "Yellow Attic".into()
    }

    fn status(&self) -> ksni::Status {
        match self.seen.how {
            How::Needs => ksni::Status::NeedsAttention,
            _ => ksni::Status::Active,
        }
    }

    fn icon_pixmap(&self) -> Vec<ksni::Icon> {
        let icon = |size| ksni::Icon { width: size, height: size, data: mark(size, self.seen.how) };
        [22, 32, 48].into_iter().map(icon).collect()
    }

    fn attention_icon_pixmap(&self) -> Vec<ksni::Icon> {
        self.icon_pixmap()
    }

    fn tool_tip(&self) -> ksni::ToolTip {
        ksni::ToolTip {
            title: "Yellow Attic".into(),
            description: self.seen.says.clone(),
            ..Default::default()
        }
    }

    fn activate(&mut self, _x: i32, _y: i32) {
        let _ = self.ask.send(Asks::Page);
    }

    fn menu(&self) -> Vec<MenuItem<Icon>> {
        let says: MenuItem<Icon> =
            StandardItem { label: self.seen.says.replace('_', "__"), enabled: false, ..Default::default() }
                .into();
        let mut menu = vec![says, MenuItem::Separator];
        menu.push(self.item("Open this computer's page", || Asks::Page));
        for (local, remote) in &self.seen.pairs {
            let path = local.clone();
            menu.push(self.item(format!("{local}  ({remote})"), move || Asks::Local(path.clone())));
        }
        let recent = self.seen.recent.iter().map(|(name, path)| {
            let path = path.clone();
            self.item(name.clone(), move || Asks::Local(path.clone()))
        });
        let recent: Vec<_> = recent.collect();
        if !recent.is_empty() {
            menu.push(SubMenu { label: "Recent files".into(), submenu: recent, ..Default::default() }.into());
        }
        menu.push(MenuItem::Separator);
        let paused = !self.seen.paused;
        menu.push(self.item(if paused { "Pause" } else { "Go on" }, move || Asks::Pause(paused)));
        menu
    }
}
