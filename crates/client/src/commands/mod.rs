//! One file per noun: its commands, their options and what they do.

pub mod access;
pub mod access_request;
pub mod audit;
pub mod client;
pub mod credential;
pub mod device;
pub mod dialogue;
pub mod folder;
pub mod gate;
pub mod grant;
pub mod group;
pub mod keys;
pub mod kind;
pub mod pending;
pub mod people;
pub mod personal;
pub mod plan;
pub mod policy;
pub mod removal;
pub mod search;
pub mod secret;
pub mod session;
pub mod settings;
pub mod transfer;
pub mod upkeep;
