//! Entries of a domain: which one an account is, and which there are.

use chrono::{DateTime, Utc};
use ldap3::adapters::{Adapter, EntriesOnly, PagedResults};
use ldap3::{Ldap as Session, LdapError, Scope, SearchEntry, ldap_escape};

use crate::FoundAccount;
use crate::network::plain_words;

/// The most accounts that are listed.
const MOST_ACCOUNTS: usize = 10_000;

/// So many entries come at a time; a domain controller gives no more than 1,000.
const PAGE: i32 = 500;

/// ACCOUNTDISABLE of `userAccountControl` (MS-ADTS, section 2.2.16).
const DISABLED: u32 = 2;

/// The naming context of the domain.
async fn domain(session: &mut Session) -> Result<Option<String>, LdapError> {
    let attribute = "defaultNamingContext";
    let (found, _) = session
        .search("", Scope::Base, "(objectClass=*)", vec![attribute])
        .await?
        .success()?;
    let root = found.into_iter().next().map(SearchEntry::construct);
    Ok(root.and_then(|mut root| root.attrs.remove(attribute)?.pop()))
}

/// The DNS name of a naming context: `osmere.example` of `DC=osmere,DC=example`.
fn dns_name(context: &str) -> String {
    let labels = context.split(',').filter_map(|part| {
        let (name, value) = part.split_once('=')?;
        name.trim()
            .eq_ignore_ascii_case("dc")
            .then_some(value.trim())
    });
    labels.collect::<Vec<_>>().join(".")
}

/// The name and the domain of `duty@osmere.example`. Every account is named in this one way, by its
/// `sAMAccountName`, so that no account has two names here.
pub(super) fn parts(login: &str) -> Option<(&str, &str)> {
    let (name, domain) = login.split_once('@')?;
    let wrong = |text: &str| text.is_empty() || text.contains(['@', '=', '\\', ',', '/', '"']);
    (!wrong(name) && !wrong(domain)).then_some((name, domain))
}

const LOGON_NAME: &str = "sAMAccountName";

/// Whether a domain's name of an account is the one that is asked for. A controller of Windows finds
/// `Jürgen` under `Jurgen` too; here these would be two accounts, each with a lockout budget of its own.
fn is_same_name(written: &str, asked: &str) -> bool {
    written.to_lowercase() == asked.to_lowercase()
}

fn filter(name: &str) -> String {
    let name = ldap_escape(name);
    format!("(&(objectClass=user)(sAMAccountName={name}))")
}

/// The distinguished name of an account, or why there is none.
pub(super) async fn entry_of(
    session: &mut Session,
    login: &str,
) -> Result<Result<String, String>, LdapError> {
    let Some((name, suffix)) = parts(login) else {
        return Ok(Err(NAME.into()));
    };
    let Some(context) = domain(session).await? else {
        return Ok(Err("the device does not say which domain it holds".into()));
    };
    let here = dns_name(&context);
    if !suffix.eq_ignore_ascii_case(&here) {
        return Ok(Err(format!(
            "this is a controller of another domain: {}",
            plain_words(&here)
        )));
    }
    let (found, _) = session
        .search(&context, Scope::Subtree, &filter(name), vec![LOGON_NAME])
        .await?
        .success()?;
    // References to other domains are no entries.
    let mut entries = found
        .into_iter()
        .filter(|entry| !entry.is_ref())
        .map(SearchEntry::construct);
    Ok(match (entries.next(), entries.next()) {
        (Some(entry), None) => match entry.attrs.get(LOGON_NAME).and_then(|all| all.first()) {
            Some(written) if !is_same_name(written, name) => Err(format!(
                "the account is written {}@{here} there",
                plain_words(written)
            )),
            _ => Ok(entry.dn),
        },
        (Some(_), Some(_)) => Err("several accounts have this name".into()),
        (None, _) => {
            Err("there is no such account, or the one that is signed in may not see it".into())
        }
    })
}

/// A time as domain controllers write it: so many times 100 nanoseconds after the beginning of 1601
/// (MS-DTYP, section 2.3.3). Nothing for 0, which stands for never.
fn file_time(text: &str) -> Option<DateTime<Utc>> {
    const TO_1970: i64 = 11_644_473_600;
    let seconds = text.parse::<i64>().ok().filter(|time| *time > 0)? / 10_000_000;
    DateTime::from_timestamp(seconds - TO_1970, 0)
}

/// The first name of a distinguished name: `Domain Admins` of
/// `CN=Domain Admins,CN=Users,DC=osmere,DC=example`. All of it where that is written with escapes.
fn common_name(name: &str) -> String {
    let first = name.split(',').next().unwrap_or(name);
    match first.split_once('=') {
        Some((_, value)) if !name.contains('\\') => value.to_owned(),
        _ => name.to_owned(),
    }
}

/// How an account is named.
pub(super) const NAME: &str =
    "a user name of a domain is the account's name and the domain's, such as duty@osmere.example";

/// The accounts that people and programs sign in as.
pub(super) async fn list(mut session: Session) -> Result<Vec<FoundAccount>, LdapError> {
    let Some(context) = domain(&mut session).await? else {
        return Ok(vec![]);
    };
    let attributes = vec![
        LOGON_NAME,
        "userAccountControl",
        "adminCount",
        "lockoutTime",
        "pwdLastSet",
        "lastLogonTimestamp",
        "memberOf",
    ];
    let adapters: Vec<Box<dyn Adapter<_, _>>> = vec![
        Box::new(EntriesOnly::new()),
        Box::new(PagedResults::new(PAGE)),
    ];
    let mut found = session
        .streaming_search_with(
            adapters,
            &context,
            Scope::Subtree,
            "(&(objectCategory=person)(objectClass=user))",
            attributes,
        )
        .await?;
    let suffix = dns_name(&context);
    let mut accounts = vec![];
    while let Some(entry) = found.next().await? {
        if accounts.len() >= MOST_ACCOUNTS {
            break;
        }
        let entry = SearchEntry::construct(entry);
        let one = |name: &str| entry.attrs.get(name).and_then(|values| values.first());
        let Some(name) = one(LOGON_NAME) else {
            continue;
        };
        let flags: u32 = one("userAccountControl")
            .and_then(|flags| flags.parse().ok())
            .unwrap_or(DISABLED);
        accounts.push(FoundAccount {
            login: format!("{name}@{suffix}"),
            signs_in: flags & DISABLED == 0,
            privileged: one("adminCount")
                .is_some_and(|count| count == "1")
                .then(|| "protected by the domain (adminCount)".into()),
            locked: Some(
                one("lockoutTime")
                    .and_then(|time| file_time(time))
                    .is_some(),
            ),
            password_set_at: one("pwdLastSet").and_then(|time| file_time(time)),
            signed_in_at: one("lastLogonTimestamp").and_then(|time| file_time(time)),
            groups: entry
                .attrs
                .get("memberOf")
                .map(|groups| groups.iter().map(|name| common_name(name)).collect())
                .unwrap_or_default(),
        });
    }
    Ok(accounts)
}

#[cfg(test)]
mod tests {
    use super::{common_name, dns_name, file_time, filter, is_same_name, parts};

    #[test]
    fn an_account_has_one_name_and_one_way_to_write_it() {
        assert_eq!(dns_name("DC=osmere,DC=example"), "osmere.example");
        assert_eq!(
            parts("duty@osmere.example"),
            Some(("duty", "osmere.example"))
        );
        for other in [
            "duty",
            "OSMERE\\duty",
            "OSMERE\\duty@osmere.example",
            "CN=duty,CN=Users,DC=osmere,DC=example",
            "@osmere.example",
            "duty@",
            "duty@osmere@example",
        ] {
            assert_eq!(parts(other), None, "{other}");
        }
    }

    #[test]
    fn times_and_names_of_groups_are_read() {
        let evening = "2026-11-28T23:47:00Z".parse().ok();
        assert_eq!(file_time("134403832200000000"), evening);
        for never in ["0", "-1", "", "soon"] {
            assert_eq!(file_time(never), None, "{never}");
        }
        let group = "CN=Domain Admins,CN=Users,DC=osmere,DC=example";
        assert_eq!(common_name(group), "Domain Admins");
        let odd = "CN=Pumps\\, all,DC=osmere,DC=example";
        assert_eq!(common_name(odd), odd);
    }

    #[test]
    fn an_account_that_is_written_in_another_way_is_another_account() {
        assert!(is_same_name("Duty", "dUTY"));
        assert!(is_same_name("jürgen", "JÜRGEN"));
        assert!(!is_same_name("Jurgen", "Jürgen"));
    }

    #[test]
    fn a_name_says_nothing_to_the_filter_that_it_is_in() {
        assert_eq!(
            filter("*)(adminCount=1"),
            "(&(objectClass=user)(sAMAccountName=\\2a\\29\\28adminCount=1))"
        );
    }
}
