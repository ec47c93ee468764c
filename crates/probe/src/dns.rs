//! `dns`: a name server is asked for a name.

use hickory_resolver::proto::rr::RecordType;
use merismos_core::config::document::{DnsProbe, DnsRecordType};
use merismos_core::health::ProbeStep;

use crate::lookup::resolver_at;
use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace};

fn record_type(record: DnsRecordType) -> RecordType {
    match record {
        DnsRecordType::A => RecordType::A,
        DnsRecordType::Aaaa => RecordType::AAAA,
        DnsRecordType::Cname => RecordType::CNAME,
        DnsRecordType::Mx => RecordType::MX,
        DnsRecordType::Ns => RecordType::NS,
        DnsRecordType::Ptr => RecordType::PTR,
        DnsRecordType::Soa => RecordType::SOA,
        DnsRecordType::Srv => RecordType::SRV,
        DnsRecordType::Txt => RecordType::TXT,
    }
}

pub(super) async fn ask(asking: &ProbeRun<'_>, asked: &DnsProbe, trace: &mut Trace) -> ProbeOutcome {
    trace.begin(ProbeStep::Answer, "no answer");
    let failed = |what: String| ProbeFailure::at(ProbeStep::Answer, what);
    let source = asking.check.elsewhere.source_address;
    let resolver = resolver_at(asking.address, source, asking.limit())
        .map_err(|error| failed(format!("nothing could be asked: {error}")))?;
    let name = format!("{}.", asked.name.trim_end_matches('.'));
    let answers: Vec<String> = match resolver.lookup(name, record_type(asked.record)).await {
        Ok(answer) => answer.answers().iter().map(|record| record.data.to_string()).collect(),
        Err(error) if error.is_no_records_found() => {
            return Err(ProbeFailure::at(
                ProbeStep::Status,
                format!("it says that there is no {} of this name", asked.record),
            ));
        }
        Err(error) => return Err(failed(format!("no answer that helps: {error}"))),
    };
    let shown = answers.join(", ");
    let same = |answer: &String, wanted: &str| {
        answer.trim_end_matches('.').eq_ignore_ascii_case(wanted.trim_end_matches('.'))
    };
    match &asked.expect {
        Some(wanted) if !answers.iter().any(|answer| same(answer, wanted)) => {
            Err(ProbeFailure::at(ProbeStep::Body, format!("answered {shown}; expected {wanted}")))
        }
        _ => Ok(format!("answered {shown}")),
    }
}
