//! The messages of the ONNX format that are used (Open Neural Network Exchange, `onnx.proto`).

#![allow(missing_docs, reason = "the fields are described in the standard")]

use prost::Message;

/// Types of the elements of a tensor.
pub const INT64: i32 = 7;
pub const STRING: i32 = 8;
pub const DOUBLE: i32 = 11;

#[derive(Clone, PartialEq, Message)]
pub struct ModelProto {
    #[prost(int64, tag = "1")]
    pub ir_version: i64,
    #[prost(string, tag = "2")]
    pub producer_name: String,
    #[prost(string, tag = "3")]
    pub producer_version: String,
    #[prost(string, tag = "6")]
    pub doc_string: String,
    #[prost(message, optional, tag = "7")]
    pub graph: Option<GraphProto>,
    #[prost(message, repeated, tag = "8")]
    pub opset_import: Vec<OperatorSetIdProto>,
    #[prost(message, repeated, tag = "14")]
    pub metadata_props: Vec<StringStringEntryProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct OperatorSetIdProto {
    #[prost(string, tag = "1")]
    pub domain: String,
    #[prost(int64, tag = "2")]
    pub version: i64,
}

#[derive(Clone, PartialEq, Message)]
pub struct StringStringEntryProto {
    #[prost(string, tag = "1")]
    pub key: String,
    #[prost(string, tag = "2")]
    pub value: String,
}

#[derive(Clone, PartialEq, Message)]
pub struct GraphProto {
    #[prost(message, repeated, tag = "1")]
    pub node: Vec<NodeProto>,
    #[prost(string, tag = "2")]
    pub name: String,
    #[prost(message, repeated, tag = "5")]
    pub initializer: Vec<TensorProto>,
    #[prost(string, tag = "10")]
    pub doc_string: String,
    #[prost(message, repeated, tag = "11")]
    pub input: Vec<ValueInfoProto>,
    #[prost(message, repeated, tag = "12")]
    pub output: Vec<ValueInfoProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct NodeProto {
    #[prost(string, repeated, tag = "1")]
    pub input: Vec<String>,
    #[prost(string, repeated, tag = "2")]
    pub output: Vec<String>,
    #[prost(string, tag = "4")]
    pub op_type: String,
    #[prost(message, repeated, tag = "5")]
    pub attribute: Vec<AttributeProto>,
    #[prost(string, tag = "7")]
    pub domain: String,
}

#[derive(Clone, PartialEq, Message)]
pub struct AttributeProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(int64, tag = "3")]
    pub i: i64,
    #[prost(bytes = "vec", tag = "4")]
    pub s: Vec<u8>,
    #[prost(message, optional, tag = "5")]
    pub t: Option<TensorProto>,
    #[prost(int64, repeated, tag = "8")]
    pub ints: Vec<i64>,
    #[prost(bytes = "vec", repeated, tag = "9")]
    pub strings: Vec<Vec<u8>>,
    #[prost(int32, tag = "20")]
    pub r#type: i32,
}

impl AttributeProto {
    /// A whole number.
    pub fn int(name: &str, i: i64) -> Self {
        Self { name: name.into(), i, r#type: 2, ..Self::default() }
    }

    /// A tensor.
    pub fn tensor(name: &str, t: TensorProto) -> Self {
        Self { name: name.into(), t: Some(t), r#type: 4, ..Self::default() }
    }

    /// Text.
    pub fn string(name: &str, s: &str) -> Self {
        Self { name: name.into(), s: s.as_bytes().to_vec(), r#type: 3, ..Self::default() }
    }

    /// Whole numbers.
    pub fn ints(name: &str, ints: Vec<i64>) -> Self {
        Self { name: name.into(), ints, r#type: 7, ..Self::default() }
    }

    /// Texts.
    pub fn strings<'t>(name: &str, strings: impl IntoIterator<Item = &'t str>) -> Self {
        let strings = strings.into_iter().map(|text| text.as_bytes().to_vec()).collect();
        Self { name: name.into(), strings, r#type: 8, ..Self::default() }
    }
}

#[derive(Clone, PartialEq, Message)]
pub struct TensorProto {
    #[prost(int64, repeated, tag = "1")]
    pub dims: Vec<i64>,
    #[prost(int32, tag = "2")]
    pub data_type: i32,
    #[prost(bytes = "vec", repeated, tag = "6")]
    pub string_data: Vec<Vec<u8>>,
    #[prost(int64, repeated, tag = "7")]
    pub int64_data: Vec<i64>,
    #[prost(string, tag = "8")]
    pub name: String,
    #[prost(double, repeated, tag = "10")]
    pub double_data: Vec<f64>,
}

impl TensorProto {
    /// Numbers in double precision.
    pub fn doubles(dims: &[i64], double_data: Vec<f64>) -> Self {
        Self { dims: dims.to_vec(), data_type: DOUBLE, double_data, ..Self::default() }
    }

    /// Whole numbers.
    pub fn ints(dims: &[i64], int64_data: Vec<i64>) -> Self {
        Self { dims: dims.to_vec(), data_type: INT64, int64_data, ..Self::default() }
    }

    /// One text.
    pub fn text(text: &str) -> Self {
        let string_data = vec![text.as_bytes().to_vec()];
        Self { dims: vec![1, 1], data_type: STRING, string_data, ..Self::default() }
    }
}

#[derive(Clone, PartialEq, Message)]
pub struct ValueInfoProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(message, optional, tag = "2")]
    pub r#type: Option<TypeProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct TypeProto {
    #[prost(message, optional, tag = "1")]
    pub tensor_type: Option<TensorTypeProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct TensorTypeProto {
    #[prost(int32, tag = "1")]
    pub elem_type: i32,
    #[prost(message, optional, tag = "2")]
    pub shape: Option<TensorShapeProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct TensorShapeProto {
    #[prost(message, repeated, tag = "1")]
    pub dim: Vec<DimensionProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct DimensionProto {
    #[prost(int64, optional, tag = "1")]
    pub dim_value: Option<i64>,
    #[prost(string, optional, tag = "2")]
    pub dim_param: Option<String>,
}
