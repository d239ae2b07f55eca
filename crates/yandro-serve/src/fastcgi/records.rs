//! The records of `FastCGI` 1.0, as a web server writes and reads them.

use hyper::body::Bytes;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};

const VERSION: u8 = 1;
/// The only request of its connection.
const REQUEST: u16 = 1;
const BEGIN_REQUEST: u8 = 1;
const END_REQUEST: u8 = 3;
const PARAMS: u8 = 4;
const STDIN: u8 = 5;
const STDOUT: u8 = 6;
const STDERR: u8 = 7;
/// A responder whose connection ends with the request.
const RESPONDER: [u8; 8] = [0, 1, 0, 0, 0, 0, 0, 0];
/// The most content of a record, in bytes, in multiples of eight.
const MOST: usize = 65_528;

/// A record that the application sends.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Record {
    /// A piece of its answer.
    Out(Bytes),
    /// A piece of what it says on the side.
    Error(Bytes),
    /// The end of its answer.
    End,
}

/// A fault of the conversation with the application.
#[derive(Debug, thiserror::Error)]
pub(super) enum ConversationError {
    #[error("{0}")]
    Connection(#[from] std::io::Error),
    #[error("it ended in the middle of its answer")]
    CutOff,
    #[error("it doesn't speak FastCGI")]
    Foreign,
    /// `protocolStatus` of the end of a request.
    #[error("it takes no request now (FastCGI status {0})")]
    Refused(u8),
}

/// The records that begin a request with these variables.
pub(super) fn beginning(variables: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut out = Vec::new();
    add(&mut out, BEGIN_REQUEST, &RESPONDER);
    let mut pairs = Vec::new();
    for (name, value) in variables {
        add_length(&mut pairs, name.len());
        add_length(&mut pairs, value.len());
        pairs.extend_from_slice(name.as_bytes());
        pairs.extend_from_slice(value);
    }
    for piece in pairs.chunks(MOST) {
        add(&mut out, PARAMS, piece);
    }
    add(&mut out, PARAMS, &[]);
    out
}

/// Writes a piece of the request's body; an empty one ends it.
pub(super) async fn write_body<W: AsyncWrite + Unpin>(to: &mut W, body: &[u8]) -> std::io::Result<()> {
    if body.is_empty() {
        return to.write_all(&header(STDIN, 0)).await;
    }
    for piece in body.chunks(MOST) {
        to.write_all(&header(STDIN, piece.len())).await?;
        to.write_all(piece).await?;
    }
    Ok(())
}

/// Reads the next thing that the application says.
pub(super) async fn read<R: AsyncRead + Unpin>(from: &mut R) -> Result<Record, ConversationError> {
    loop {
        let mut header = [0; 8];
        whole(from.read_exact(&mut header).await)?;
        let [version, kind, _, _, high, low, padding, _] = header;
        if version != VERSION {
            return Err(ConversationError::Foreign);
        }
        let length = usize::from(u16::from_be_bytes([high, low]));
        let mut content = vec![0; length + usize::from(padding)];
        whole(from.read_exact(&mut content).await)?;
        content.truncate(length);
        match kind {
            // The end of a stream; the end of the request is yet to come.
            STDOUT | STDERR if length == 0 => {}
            STDOUT => return Ok(Record::Out(content.into())),
            STDERR => return Ok(Record::Error(content.into())),
            END_REQUEST => match content.get(4).copied() {
                Some(0) => return Ok(Record::End),
                Some(status) => return Err(ConversationError::Refused(status)),
                None => return Err(ConversationError::Foreign),
            },
            // Nothing else is asked for, so nothing else is for us.
            _ => {}
        }
    }
}

fn whole(read: std::io::Result<usize>) -> Result<(), ConversationError> {
    match read {
        Ok(_) => Ok(()),
        Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => Err(ConversationError::CutOff),
        Err(error) => Err(error.into()),
    }
}

fn add(out: &mut Vec<u8>, kind: u8, content: &[u8]) {
    out.extend_from_slice(&header(kind, content.len()));
    out.extend_from_slice(content);
}

fn header(kind: u8, length: usize) -> [u8; 8] {
    let [high, low] = u16::try_from(length).unwrap_or(u16::MAX).to_be_bytes();
    let [request_high, request_low] = REQUEST.to_be_bytes();
    [VERSION, kind, request_high, request_low, high, low, 0, 0]
}

/// A length of a name or value: one byte, or four with the highest bit set.
fn add_length(out: &mut Vec<u8>, length: usize) {
    match u8::try_from(length) {
        Ok(length) if length < 0x80 => out.push(length),
        _ => {
            let length = u32::try_from(length).unwrap_or(u32::MAX >> 1) | 0x8000_0000;
            out.extend_from_slice(&length.to_be_bytes());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn records_are_those_of_the_specification() {
        let long = "x".repeat(200);
        let begun = beginning(&[("TIDE".into(), b"high".to_vec()), ("L".into(), long.clone().into_bytes())]);
        let mut expected = vec![1, 1, 0, 1, 0, 8, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 1, 4, 0, 1, 0, 216, 0, 0, 4, 4];
        expected.extend_from_slice(b"TIDEhigh");
        expected.extend_from_slice(&[1, 0x80, 0, 0, 200]);
        expected.extend_from_slice(format!("L{long}").as_bytes());
        expected[21] = 10 + 206;
        expected.extend_from_slice(&[1, 4, 0, 1, 0, 0, 0, 0]);
        assert_eq!(begun, expected);

        let said: &[u8] = &[
            1, 6, 0, 1, 0, 2, 3, 0, b'o', b'k', 0, 0, 0, // out, padded
            1, 7, 0, 1, 0, 1, 0, 0, b'!', // on the side
            1, 6, 0, 1, 0, 0, 0, 0, // the end of out
            1, 3, 0, 1, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
        ];
        let mut from = said;
        assert_eq!(read(&mut from).await.unwrap(), Record::Out("ok".into()));
        assert_eq!(read(&mut from).await.unwrap(), Record::Error("!".into()));
        assert_eq!(read(&mut from).await.unwrap(), Record::End);
        for cut in 1..said.len() {
            let mut from = &said[..cut];
            let mut last = read(&mut from).await;
            while let Ok(Record::Out(_) | Record::Error(_)) = last {
                last = read(&mut from).await;
            }
            assert!(matches!(last, Err(ConversationError::CutOff)), "{cut}");
        }
        assert!(matches!(read(&mut &b"HTTP/1.1 400 Bad Request"[..]).await, Err(ConversationError::Foreign)));
        let overloaded = [1, 3, 0, 1, 0, 8, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0];
        assert!(matches!(read(&mut &overloaded[..]).await, Err(ConversationError::Refused(2))));
    }
}
