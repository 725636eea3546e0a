//! Software bills of materials: which packages an image was made of. Two open formats are read: SPDX (ISO/IEC 5962, its JSON
//! form) and CycloneDX (ECMA-424, its JSON form).

use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::Digest;

/// The media types of bills, as artifacts and layers name them.
pub const BILLS: [&str; 2] = ["application/spdx+json", "application/vnd.cyclonedx+json"];
/// Longest bill that is read.
pub const BILL_LIMIT: u64 = 32 << 20;

/// A bill of materials.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Materials {
    /// Its format with the version, such as `SPDX-2.3`.
    pub format: String,
    /// The packages, by name.
    pub packages: Vec<Package>,
}

/// One package.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version; empty where the bill does not say it.
    pub version: String,
}

/// Writes a bill for an image that was made of packages of Debian, as SPDX 2.3: the same packages make the same bill.
pub fn spdx_of(image: &str, packages: &[Package]) -> Vec<u8> {
    let listed = packages.iter().enumerate().map(|(number, package)| {
        json!({
            "SPDXID": format!("SPDXRef-Package-{number}"),
            "name": package.name,
            "versionInfo": package.version,
            "downloadLocation": "NOASSERTION",
            "filesAnalyzed": false,
            "externalRefs": [{
                "referenceCategory": "PACKAGE-MANAGER",
                "referenceType": "purl",
                "referenceLocator": format!("pkg:deb/debian/{}@{}", package.name, package.version),
            }],
        })
    });
    let listed: Vec<serde_json::Value> = listed.collect();
    let content = Digest::of(serde_json::Value::from(listed.clone()).to_string().as_bytes());
    let bill = json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": image,
        "documentNamespace": format!("urn:sha256:{}", content.hex()),
        // No time of day: it would make each bill another one.
        "creationInfo": {"created": "1970-01-01T00:00:00Z", "creators": ["Tool: mainyard"]},
        "packages": listed,
    });
    bill.to_string().into_bytes()
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Bill {
    spdx_version: Option<String>,
    #[serde(default)]
    packages: Vec<SpdxPackage>,
    bom_format: Option<String>,
    spec_version: Option<String>,
    #[serde(default)]
    components: Vec<Component>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct SpdxPackage {
    name: String,
    #[serde(default)]
    version_info: String,
}

#[derive(Deserialize)]
struct Component {
    name: String,
    #[serde(default)]
    version: String,
}

impl Materials {
    /// Reads a bill of either format; nothing where it is none of them.
    pub fn read(bytes: &[u8]) -> Option<Materials> {
        let bill: Bill = serde_json::from_slice(bytes).ok()?;
        let (format, mut packages): (String, Vec<Package>) = match (bill.spdx_version, bill.bom_format) {
            (Some(version), _) => {
                let all = bill.packages.into_iter();
                (version, all.map(|it| Package { name: it.name, version: it.version_info }).collect())
            }
            (None, Some(format)) => {
                let all = bill.components.into_iter();
                let format = format!("{format} {}", bill.spec_version.unwrap_or_default());
                let packages = all.map(|it| Package { name: it.name, version: it.version }).collect();
                (format.trim_end().to_owned(), packages)
            }
            (None, None) => return None,
        };
        packages.sort();
        packages.dedup();
        Some(Materials { format, packages })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bill_that_was_written_is_read_and_is_the_same_each_time() {
        let package = |name: &str| Package { name: name.to_owned(), version: "1.2-3".to_owned() };
        let packages = [package("libc6"), package("zlib1g")];
        let bill = spdx_of("debian/base:1", &packages);
        assert_eq!(bill, spdx_of("debian/base:1", &packages));
        let read = Materials::read(&bill).expect("a bill");
        assert_eq!((read.format.as_str(), &read.packages[..]), ("SPDX-2.3", &packages[..]));
    }

    #[test]
    fn both_formats_are_read_and_others_are_none() {
        let spdx = br#"{"spdxVersion":"SPDX-2.3","packages":[{"name":"zlib1g","versionInfo":"1.2.13"},{"name":"base-files"}]}"#;
        let other = br#"{"bomFormat":"CycloneDX","specVersion":"1.5","components":[{"name":"zlib1g","version":"1.2.13"}]}"#;
        let shown = |bytes: &[u8]| {
            Materials::read(bytes).map(|bill| {
                let packages = bill.packages.iter().map(|it| format!("{} {}", it.name, it.version));
                format!("{}: {}", bill.format, packages.collect::<Vec<_>>().join(", "))
            })
        };
        assert_eq!(shown(spdx).as_deref(), Some("SPDX-2.3: base-files , zlib1g 1.2.13"));
        assert_eq!(shown(other).as_deref(), Some("CycloneDX 1.5: zlib1g 1.2.13"));
        assert_eq!(shown(b"{}"), None);
        assert_eq!(shown(b"no bill"), None);
    }
}
