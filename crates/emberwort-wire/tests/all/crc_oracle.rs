//! All catalogued CRCs against an independent implementation.

use emberwort_model::algorithm::{Algorithm, CATALOGUE, Crc};
use emberwort_wire::checksum::Checksum;
use proptest::prelude::*;

/// Computes with the `crc` crate, for any width.
fn oracle(crc: &Crc, bytes: &[u8]) -> u64 {
    macro_rules! with {
        ($width:ty) => {{
            let algorithm = crc::Algorithm::<$width> {
                width: crc.width,
                poly: crc.polynomial as $width,
                init: crc.initial as $width,
                refin: crc.reflect_in,
                refout: crc.reflect_out,
                xorout: crc.final_xor as $width,
                check: 0,
                residue: 0,
            };
            let algorithm: &'static crc::Algorithm<$width> = Box::leak(Box::new(algorithm));
            u64::from(crc::Crc::<$width>::new(algorithm).checksum(bytes))
        }};
    }
    match crc.width {
        0..=8 => with!(u8),
        9..=16 => with!(u16),
        17..=32 => with!(u32),
        _ => with!(u64),
    }
}

#[test]
fn the_catalogue_has_every_name_of_the_oracle_with_the_same_parameters() {
    // All constants of the oracle's catalogue, but for the one that is wider than 64 bits.
    macro_rules! rows {
        ($($name:ident),* $(,)?) => { vec![$((stringify!($name), {
            let a = &crc::$name;
            (a.width, u64::from(a.poly), u64::from(a.init), a.refin, a.refout, u64::from(a.xorout), u64::from(a.check))
        })),*] };
    }
    let rows = rows![
        CRC_3_GSM,
        CRC_3_ROHC,
        CRC_4_G_704,
        CRC_4_INTERLAKEN,
        CRC_5_EPC_C1G2,
        CRC_5_G_704,
        CRC_5_USB,
        CRC_6_CDMA2000_A,
        CRC_6_CDMA2000_B,
        CRC_6_DARC,
        CRC_6_GSM,
        CRC_6_G_704,
        CRC_7_MMC,
        CRC_7_ROHC,
        CRC_7_UMTS,
        CRC_8_AUTOSAR,
        CRC_8_BLUETOOTH,
        CRC_8_CDMA2000,
        CRC_8_DARC,
        CRC_8_DVB_S2,
        CRC_8_GSM_A,
        CRC_8_GSM_B,
        CRC_8_HITAG,
        CRC_8_I_432_1,
        CRC_8_I_CODE,
        CRC_8_LTE,
        CRC_8_MAXIM_DOW,
        CRC_8_MIFARE_MAD,
        CRC_8_NRSC_5,
        CRC_8_OPENSAFETY,
        CRC_8_ROHC,
        CRC_8_SAE_J1850,
        CRC_8_SMBUS,
        CRC_8_TECH_3250,
        CRC_8_WCDMA,
        CRC_10_ATM,
        CRC_10_CDMA2000,
        CRC_10_GSM,
        CRC_11_FLEXRAY,
        CRC_11_UMTS,
        CRC_12_CDMA2000,
        CRC_12_DECT,
        CRC_12_GSM,
        CRC_12_UMTS,
        CRC_13_BBC,
        CRC_14_DARC,
        CRC_14_GSM,
        CRC_15_CAN,
        CRC_15_MPT1327,
        CRC_16_ARC,
        CRC_16_CDMA2000,
        CRC_16_CMS,
        CRC_16_DDS_110,
        CRC_16_DECT_R,
        CRC_16_DECT_X,
        CRC_16_DNP,
        CRC_16_EN_13757,
        CRC_16_GENIBUS,
        CRC_16_GSM,
        CRC_16_IBM_3740,
        CRC_16_IBM_SDLC,
        CRC_16_ISO_IEC_14443_3_A,
        CRC_16_KERMIT,
        CRC_16_LJ1200,
        CRC_16_M17,
        CRC_16_MAXIM_DOW,
        CRC_16_MCRF4XX,
        CRC_16_MODBUS,
        CRC_16_NRSC_5,
        CRC_16_OPENSAFETY_A,
        CRC_16_OPENSAFETY_B,
        CRC_16_PROFIBUS,
        CRC_16_RIELLO,
        CRC_16_SPI_FUJITSU,
        CRC_16_T10_DIF,
        CRC_16_TELEDISK,
        CRC_16_TMS37157,
        CRC_16_UMTS,
        CRC_16_USB,
        CRC_16_XMODEM,
        CRC_17_CAN_FD,
        CRC_21_CAN_FD,
        CRC_24_BLE,
        CRC_24_FLEXRAY_A,
        CRC_24_FLEXRAY_B,
        CRC_24_INTERLAKEN,
        CRC_24_LTE_A,
        CRC_24_LTE_B,
        CRC_24_OPENPGP,
        CRC_24_OS_9,
        CRC_30_CDMA,
        CRC_31_PHILIPS,
        CRC_32_AIXM,
        CRC_32_AUTOSAR,
        CRC_32_BASE91_D,
        CRC_32_BZIP2,
        CRC_32_CD_ROM_EDC,
        CRC_32_CKSUM,
        CRC_32_ISCSI,
        CRC_32_ISO_HDLC,
        CRC_32_JAMCRC,
        CRC_32_MEF,
        CRC_32_MPEG_2,
        CRC_32_XFER,
        CRC_40_GSM,
        CRC_64_ECMA_182,
        CRC_64_GO_ISO,
        CRC_64_MS,
        CRC_64_NVME,
        CRC_64_REDIS,
        CRC_64_WE,
        CRC_64_XZ,
    ];
    for (name, (width, poly, init, refin, refout, xorout, check)) in &rows {
        let entry = CATALOGUE.iter().find(|entry| name.eq_ignore_ascii_case(&entry.name.replace(['-', '/'], "_")));
        let entry = entry.unwrap_or_else(|| panic!("{name} is missing"));
        let crc = entry.crc;
        assert_eq!((crc.width, crc.polynomial, crc.initial), (*width, *poly, *init), "{name}");
        assert_eq!((crc.reflect_in, crc.reflect_out, crc.final_xor), (*refin, *refout, *xorout), "{name}");
        assert_eq!(entry.check, *check, "{name}");
    }
    assert_eq!(rows.len(), CATALOGUE.len());
}

proptest! {
    #[test]
    fn any_bytes_give_the_same_crc(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        for entry in CATALOGUE {
            let ours = Checksum::new(&Algorithm::Crc(entry.crc)).compute(&bytes);
            prop_assert_eq!(ours, oracle(&entry.crc, &bytes), "{}", entry.name);
        }
    }

    #[test]
    fn any_parameters_give_the_same_crc(
        width in 3u8..=64, polynomial: u64, initial: u64, final_xor: u64, reflect_in: bool, reflect_out: bool, bytes: Vec<u8>,
    ) {
        let mask = u64::MAX >> (64 - width);
        let crc = Crc {
            width, polynomial: polynomial & mask, initial: initial & mask, reflect_in, reflect_out, final_xor: final_xor & mask,
        };
        // Against the model's definition, one bit at a time: any width, mirrored on one side only as well.
        prop_assert_eq!(Checksum::new(&Algorithm::Crc(crc)).compute(&bytes), bit_by_bit(&crc, &bytes));
    }
}

/// The definition of the parametric model, one bit at a time.
fn bit_by_bit(crc: &Crc, bytes: &[u8]) -> u64 {
    let mask = u64::MAX >> (64 - crc.width);
    let mut register = crc.initial;
    for byte in bytes {
        for n in 0..8 {
            let bit = if crc.reflect_in { byte >> n & 1 } else { byte >> (7 - n) & 1 };
            let top = register >> (crc.width - 1) & 1;
            register = register << 1 & mask;
            if top ^ u64::from(bit) == 1 {
                register ^= crc.polynomial;
            }
        }
    }
    if crc.reflect_out {
        register = register.reverse_bits() >> (64 - crc.width);
    }
    (register ^ crc.final_xor) & mask
}
