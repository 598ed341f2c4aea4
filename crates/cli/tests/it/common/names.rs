//! A name server on loopback, with a zone as zone files write it.

use hickory_proto::rr::Name;
use hickory_proto::serialize::txt::Parser;
use hickory_server::Server;
use hickory_server::net::runtime::TokioRuntimeProvider;
use hickory_server::store::in_memory::InMemoryZoneHandler;
use hickory_server::zone_handler::{AxfrPolicy, Catalog, ZoneType};
use std::net::SocketAddr;
use std::str::FromStr;
use std::sync::Arc;

/// A running server; it ends with the test process.
pub struct NameServer {
    pub at: SocketAddr,
}

impl NameServer {
    /// Answers for a zone.
    pub fn serve(origin: &str, zone: &str) -> NameServer {
        let origin = Name::from_str(&format!("{origin}.")).unwrap();
        let (origin, records) = Parser::new(zone, None, Some(origin)).parse().unwrap();
        let handler = InMemoryZoneHandler::<TokioRuntimeProvider>::new(
            origin.clone(),
            records,
            ZoneType::Primary,
            AxfrPolicy::Deny,
        )
        .unwrap();
        let mut catalog = Catalog::new();
        catalog.upsert(origin.into(), vec![Arc::new(handler)]);
        let (send, receive) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
                send.send(socket.local_addr().unwrap()).unwrap();
                let mut server = Server::new(catalog);
                server.register_socket(socket);
                let _ = server.block_until_done().await;
            });
        });
        NameServer { at: receive.recv().unwrap() }
    }
}
