//! Sums of products, added up in one fixed order.

/// The sum of products of two columns.
pub fn dot(a: &[f64], b: &[f64]) -> f64 {
    dots([a, a], b)[0]
}

/// The products of two columns with a third. Eight running sums for each keep the
/// processor's lanes busy; their order is fixed.
pub fn dots(a: [&[f64]; 2], b: &[f64]) -> [f64; 2] {
    let mut lanes = [[0.0; 8]; 2];
    let [first, second] = a.map(|a| a.as_chunks::<8>());
    let (b, rest) = b.as_chunks::<8>();
    for ((x, y), z) in first.0.iter().zip(second.0).zip(b) {
        for lane in 0..8 {
            lanes[0][lane] += x[lane] * z[lane];
            lanes[1][lane] += y[lane] * z[lane];
        }
    }
    let rest = |a: &[f64]| a.iter().zip(rest).map(|(x, z)| x * z).sum::<f64>();
    let [one, other] = lanes.map(|lanes| lanes.iter().sum::<f64>());
    [one + rest(first.1), other + rest(second.1)]
}
