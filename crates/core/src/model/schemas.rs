//! JSON Schemas (draft 2020-12) of values that are written as text or as a number.

use std::borrow::Cow;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};

use super::{Bytes, Cpu, ImageRef, Name, OutgoingRule, ReleaseId, ReplicaId, SecretValue, Span};
use crate::address::Range;

macro_rules! schemas {
    ($($type:ty = $schema:tt)*) => {$(
        impl JsonSchema for $type {
            fn schema_name() -> Cow<'static, str> {
                stringify!($type).into()
            }
            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!($schema)
            }
        }
    )*};
}

schemas! {
    Name = {
        "type": "string", "maxLength": 40, "pattern": "^[a-z](-?[a-z0-9])*$", "examples": ["staging"],
        "description": "The name of an environment, application, workload, service, route or port: a letter, then letters, digits and single hyphens, all lower case."
    }
    ReleaseId = {
        "type": "string", "maxLength": 96, "pattern": "^[a-z](-?[a-z0-9])*/[a-z](-?[a-z0-9])*@[1-9][0-9]{0,8}$",
        "examples": ["staging/locker-api@11"],
        "description": "A release, as `environment/workload@number`."
    }
    ReplicaId = {
        "type": "string", "maxLength": 96, "pattern": "^[a-z](-?[a-z0-9])*/[a-z](-?[a-z0-9])*/[A-Za-z0-9]{1,12}$",
        "examples": ["staging/locker-api/a0"],
        "description": "A replica, as `environment/workload/replica`."
    }
    ImageRef = {
        "type": "string", "maxLength": 255,
        "pattern": "^[a-z0-9][a-z0-9._-]*(/[a-z0-9][a-z0-9._-]*)*:[A-Za-z0-9_][A-Za-z0-9._-]{0,127}$",
        "examples": ["lockers/locker-api:1.4.0"],
        "description": "An image by repository and tag."
    }
    OutgoingRule = {
        "type": "string", "maxLength": 280, "pattern": "^[^:\\s]+:[0-9]{1,5}(-[0-9]{1,5})?$", "examples": ["mail.example:25"],
        "description": "A destination outside, by name or address range, and port: `mail.example:25`, `*.example.org:443`, `192.0.2.0/24:5432`."
    }
    Range = {
        "type": "string", "pattern": "^[0-9]{1,3}\\.[0-9]{1,3}\\.0\\.0/16$", "examples": ["10.118.0.0/16"],
        "description": "The addresses that a node gives to its replicas."
    }
    Bytes = {
        "type": "string", "pattern": "^[0-9]+(\\.[0-9]+)? ?([KkMmGg][Ii])?[Bb]$", "examples": ["256 MiB"],
        "description": "An amount of memory, with its unit: B, KiB, MiB or GiB."
    }
    Span = {
        "type": "string", "pattern": "^[0-9]+(\\.[0-9]+)?(ms|s|m|h|d)$", "examples": ["5s"],
        "description": "A length of time, with its unit: ms, s, m, h or d."
    }
    Cpu = {
        "type": "number", "minimum": 0, "examples": [0.25],
        "description": "Processors, to a thousandth of one."
    }
    SecretValue = {
        "type": "string", "contentEncoding": "base64",
        "description": "The value of a secret (RFC 4648), on its way to a part of the platform."
    }
}
