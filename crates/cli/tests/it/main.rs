//! Drives the built binary on files in temporary folders, against real MariaDB and PHP where they are needed.
//!
//! - `story`: every stand-in through survey, pack, verify, restore, and its pages opened by real PHP
//! - `damage`: archives that were harmed on the way, and hostile ones
//! - `guards`: what is refused, with exit code and advice
//! - `databases`: the database commands on real servers: round trips, guards, continuing, going back
//! - `at_work`: what is left alone at a site at work, and what is looked at first
//! - `copies`: from server to server, brought up to date, interrupted, taken back
//! - `dumps`: `readdress`, and PHP as the judge of serialized values
//! - `engines`: sites on PostgreSQL and SQLite, cloned straight
//! - `faults`: no room, and kills, at live sites
//! - `dialects`: dumps of other servers, written and loaded by these servers
//! - `tracing`: `trace` in dumps, folders and archives
//! - `wordpress`: a real installation, moved and opened
//! - `loads`: what a load keeps of a database, and of what others do meanwhile
//! - `moves`: every kind of move an address can make; risks, passwords, interruption
//! - `ordinary`: raw bytes, memory, files that change, names that are not UTF-8
//! - `plain`: archives that somebody made by hand, or of files alone
//! - `promises`: locks, records, owners, links, signals, wrong material
//! - `schemas`: random schemas through dump and load, hostile dumps against real servers
//! - `surface`: help, JSON, logbook, definitions
//! - `systems`: every system and line moves and opens from the copy; switches, scope, hosts, networks

#![allow(clippy::unwrap_used, reason = "a failing unwrap is a failing test")]

mod at_work;
mod beside;
mod common;
mod copies;
mod damage;
mod databases;
mod diagnose;
mod dialects;
mod difference;
mod documents;
mod dumps;
mod engines;
mod faults;
mod guards;
mod in_place;
mod json_config;
mod layouts;
mod live;
mod loads;
mod moves;
mod moving;
mod ordinary;
mod plain;
mod promises;
mod pushing;
mod schemas;
mod served;
mod sightings;
mod stopping;
mod story;
mod surface;
mod systems;
mod tracing;
mod unknown;
mod visiting;
mod wagtail;
mod wordpress;
