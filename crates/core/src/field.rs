//! The field of 256 elements with the polynomial of AES (FIPS 197, section 4.2). Without tables and branches: how long it takes
//! says nothing of the values, which are secret.

/// The product of two elements.
pub(crate) fn times(one: u8, other: u8) -> u8 {
    let (mut shifted, mut product) = (one, 0);
    for bit in 0..8 {
        product ^= shifted & mask(other >> bit);
        shifted = (shifted << 1) ^ (0x1b & mask(shifted >> 7));
    }
    product
}

/// The element whose product with this one is 1; 0 for 0. The 254th power, since the 255th is 1.
pub(crate) fn inverse(element: u8) -> u8 {
    (1..8)
        .fold((element, 1), |(power, product), _| {
            let power = times(power, power);
            (power, times(product, power))
        })
        .1
}

/// All bits like the lowest one.
fn mask(bit: u8) -> u8 {
    0u8.wrapping_sub(bit & 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn products_are_those_of_the_standard_and_every_element_has_an_inverse() {
        assert_eq!(times(0x57, 0x83), 0xc1);
        assert_eq!(times(0x57, 0x13), 0xfe);
        assert_eq!(inverse(0x53), 0xca);
        for element in 1..=255 {
            assert_eq!(times(element, inverse(element)), 1, "{element}");
            assert_eq!(times(element, 1), element);
        }
        assert_eq!(inverse(0), 0);
    }
}
