//! JSON bodies, read to the letter: where an object belongs nothing else is taken.

use crate::http::problem::{bad_body, unreadable};
use actix_web::dev::Payload;
use actix_web::error::JsonPayloadError;
use actix_web::{FromRequest, HttpMessage, HttpRequest, web};
use serde::de::value::{MapDeserializer, SeqDeserializer};
use serde::de::{DeserializeOwned, Deserializer, Error as _, IntoDeserializer, Unexpected, Visitor};
use serde_json::Value;
use std::ops::Deref;
use std::pin::Pin;

/// The largest, in bytes.
const LARGEST: usize = 256 * 1024;

/// A body of JSON.
pub struct Json<T>(pub T);

impl<T> Json<T> {
    /// What was sent.
    pub fn into_inner(self) -> T {
        self.0
    }
}

impl<T> Deref for Json<T> {
    type Target = T;
    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: DeserializeOwned + 'static> FromRequest for Json<T> {
    type Error = actix_web::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self, Self::Error>>>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let kind = request.content_type().to_ascii_lowercase();
        let is_json =
            kind == "application/json" || kind.starts_with("application/") && kind.ends_with("+json");
        let announced = request.headers().get("content-length").and_then(|v| v.to_str().ok());
        let announced = announced.and_then(|v| v.parse::<usize>().ok());
        let bytes = web::Payload::from_request(request, payload).into_inner();
        Box::pin(async move {
            if !is_json {
                return Err(bad_body(&JsonPayloadError::ContentType));
            }
            if announced.is_some_and(|n| n > LARGEST) {
                return Err(bad_body(&JsonPayloadError::Overflow { limit: LARGEST }));
            }
            let bytes = match bytes?.to_bytes_limited(LARGEST).await {
                Err(_) => return Err(bad_body(&JsonPayloadError::Overflow { limit: LARGEST })),
                Ok(Err(_)) => {
                    return Err(bad_body(&JsonPayloadError::Payload(
                        actix_web::error::PayloadError::Incomplete(None),
                    )));
                }
                Ok(Ok(bytes)) => bytes,
            };
            read(&bytes).map(Json).map_err(|why| unreadable("body", &why))
        })
    }
}

/// Reads a body.
pub fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, serde_json::Error> {
    T::deserialize(Strict(serde_json::from_slice(bytes)?))
}

/// A value of which objects are read from objects alone: the usual reader takes a list of their fields as well.
struct Strict(Value);

impl<'de> IntoDeserializer<'de, serde_json::Error> for Strict {
    type Deserializer = Strict;
    fn into_deserializer(self) -> Strict {
        self
    }
}

impl<'de> Deserializer<'de> for Strict {
    type Error = serde_json::Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Self::Error> {
        match self.0 {
            Value::Null => visitor.visit_unit(),
            Value::Bool(is) => visitor.visit_bool(is),
            Value::String(text) => visitor.visit_string(text),
            Value::Number(number) => match number.as_f64() {
                // 2.0 is a whole number (JSON Schema, 6.1.1).
                Some(float) if number.is_f64() && float.fract() == 0.0 && float.abs() < 9e15 => {
                    visitor.visit_i64(float as i64)
                }
                _ => number.deserialize_any(visitor),
            },
            Value::Array(items) => {
                let mut items = SeqDeserializer::new(items.into_iter().map(Strict));
                let read = visitor.visit_seq(&mut items)?;
                items.end()?;
                Ok(read)
            }
            Value::Object(fields) => {
                let mut fields = MapDeserializer::new(fields.into_iter().map(|(k, v)| (k, Strict(v))));
                let read = visitor.visit_map(&mut fields)?;
                fields.end()?;
                Ok(read)
            }
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Self::Error> {
        match self.0 {
            Value::Null => visitor.visit_none(),
            _ => visitor.visit_some(self),
        }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        visitor: V,
    ) -> Result<V::Value, Self::Error> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Self::Error> {
        match &self.0 {
            Value::Object(_) => self.deserialize_any(visitor),
            Value::Array(_) => Err(Self::Error::invalid_type(Unexpected::Other("a list"), &"an object")),
            Value::String(text) => Err(Self::Error::invalid_type(Unexpected::Str(text), &"an object")),
            _ => Err(Self::Error::invalid_type(Unexpected::Other("something else"), &"an object")),
        }
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Self::Error> {
        self.0.deserialize_enum(name, variants, visitor)
    }

    serde::forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct seq tuple
        tuple_struct map identifier ignored_any
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yellow_attic_api as api;

    #[test]
    fn where_an_object_belongs_a_list_of_its_fields_is_not_taken() {
        assert!(read::<api::Ticket>(br#"{"ticket":"a"}"#).is_ok());
        for bad in
            [&br#"["a"]"#[..], b"null", b"\"a\"", br#"{"ticket":"a","more":1}"#, br#"{"ticket":["a"]}"#, b"{"]
        {
            assert!(read::<api::Ticket>(bad).is_err(), "{}", String::from_utf8_lossy(bad));
        }
        let nested = br#"{"kind":"link","node":42.0,"set":[null,null]}"#;
        assert!(read::<api::NewOpening>(nested).is_err());
        let nested = br#"{"kind":"link","node":42.0,"set":{"most":3}}"#;
        let read = read::<api::NewOpening>(nested).unwrap();
        assert_eq!((read.node, read.set.most), (42, Some(3)));
    }
}
