//! Checksums by name: the public catalogue of CRCs (the RevEng catalogue of parametrised CRC algorithms, as the `crc` crate carries it), and the sums
//! that have a customary name.

use crc::Algorithm;
use crc::{
    CRC_3_GSM, CRC_3_ROHC, CRC_4_G_704, CRC_4_INTERLAKEN, CRC_5_EPC_C1G2, CRC_5_G_704, CRC_5_USB, CRC_6_CDMA2000_A,
    CRC_6_CDMA2000_B, CRC_6_DARC, CRC_6_G_704, CRC_6_GSM, CRC_7_MMC, CRC_7_ROHC, CRC_7_UMTS, CRC_8_AUTOSAR,
    CRC_8_BLUETOOTH, CRC_8_CDMA2000, CRC_8_DARC, CRC_8_DVB_S2, CRC_8_GSM_A, CRC_8_GSM_B, CRC_8_HITAG, CRC_8_I_432_1,
    CRC_8_I_CODE, CRC_8_LTE, CRC_8_MAXIM_DOW, CRC_8_MIFARE_MAD, CRC_8_NRSC_5, CRC_8_OPENSAFETY, CRC_8_ROHC,
    CRC_8_SAE_J1850, CRC_8_SMBUS, CRC_8_TECH_3250, CRC_8_WCDMA, CRC_10_ATM, CRC_10_CDMA2000, CRC_10_GSM,
    CRC_11_FLEXRAY, CRC_11_UMTS, CRC_12_CDMA2000, CRC_12_DECT, CRC_12_GSM, CRC_12_UMTS, CRC_13_BBC, CRC_14_DARC,
    CRC_14_GSM, CRC_15_CAN, CRC_15_MPT1327, CRC_16_ARC, CRC_16_CDMA2000, CRC_16_CMS, CRC_16_DDS_110, CRC_16_DECT_R,
    CRC_16_DECT_X, CRC_16_DNP, CRC_16_EN_13757, CRC_16_GENIBUS, CRC_16_GSM, CRC_16_IBM_3740, CRC_16_IBM_SDLC,
    CRC_16_ISO_IEC_14443_3_A, CRC_16_KERMIT, CRC_16_LJ1200, CRC_16_M17, CRC_16_MAXIM_DOW, CRC_16_MCRF4XX,
    CRC_16_MODBUS, CRC_16_NRSC_5, CRC_16_OPENSAFETY_A, CRC_16_OPENSAFETY_B, CRC_16_PROFIBUS, CRC_16_RIELLO,
    CRC_16_SPI_FUJITSU, CRC_16_T10_DIF, CRC_16_TELEDISK, CRC_16_TMS37157, CRC_16_UMTS, CRC_16_USB, CRC_16_XMODEM,
    CRC_17_CAN_FD, CRC_21_CAN_FD, CRC_24_BLE, CRC_24_FLEXRAY_A, CRC_24_FLEXRAY_B, CRC_24_INTERLAKEN, CRC_24_LTE_A,
    CRC_24_LTE_B, CRC_24_OPENPGP, CRC_24_OS_9, CRC_30_CDMA, CRC_31_PHILIPS, CRC_32_AIXM, CRC_32_AUTOSAR,
    CRC_32_BASE91_D, CRC_32_BZIP2, CRC_32_CD_ROM_EDC, CRC_32_CKSUM, CRC_32_ISCSI, CRC_32_ISO_HDLC, CRC_32_JAMCRC,
    CRC_32_MEF, CRC_32_MPEG_2, CRC_32_XFER, CRC_40_GSM, CRC_64_ECMA_182, CRC_64_GO_ISO, CRC_64_MS, CRC_64_NVME,
    CRC_64_REDIS, CRC_64_WE, CRC_64_XZ, CRC_82_DARC,
};

use super::{CyclicParameters, Modulus, SumParameters};
use crate::integer::{Integer, Order};

/// A CRC of the catalogue.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    pub(super) name: &'static str,
    pub(super) parameters: CyclicParameters,
    /// The CRC of the nine digits "123456789".
    pub(super) check: u128,
}

macro_rules! parameters {
    ($width:ident: $($name:literal $algorithm:ident)*) => {
        [$(of!($width, $name, $algorithm)),*]
    };
}

macro_rules! of {
    ($width:ident, $name:literal, $algorithm:ident) => {{
        const A: Algorithm<$width> = $algorithm;
        Entry {
            name: $name,
            parameters: CyclicParameters {
                width: A.width,
                polynomial: A.poly as u128,
                initial: A.init as u128,
                reflect_input: A.refin,
                reflect_output: A.refout,
                final_xor: A.xorout as u128,
            },
            check: A.check as u128,
        }
    }};
}

static BITS_8: [Entry; 35] = parameters! { u8:
    "CRC-3/GSM" CRC_3_GSM
    "CRC-3/ROHC" CRC_3_ROHC
    "CRC-4/G-704" CRC_4_G_704
    "CRC-4/INTERLAKEN" CRC_4_INTERLAKEN
    "CRC-5/EPC-C1G2" CRC_5_EPC_C1G2
    "CRC-5/G-704" CRC_5_G_704
    "CRC-5/USB" CRC_5_USB
    "CRC-6/CDMA2000-A" CRC_6_CDMA2000_A
    "CRC-6/CDMA2000-B" CRC_6_CDMA2000_B
    "CRC-6/DARC" CRC_6_DARC
    "CRC-6/G-704" CRC_6_G_704
    "CRC-6/GSM" CRC_6_GSM
    "CRC-7/MMC" CRC_7_MMC
    "CRC-7/ROHC" CRC_7_ROHC
    "CRC-7/UMTS" CRC_7_UMTS
    "CRC-8/AUTOSAR" CRC_8_AUTOSAR
    "CRC-8/BLUETOOTH" CRC_8_BLUETOOTH
    "CRC-8/CDMA2000" CRC_8_CDMA2000
    "CRC-8/DARC" CRC_8_DARC
    "CRC-8/DVB-S2" CRC_8_DVB_S2
    "CRC-8/GSM-A" CRC_8_GSM_A
    "CRC-8/GSM-B" CRC_8_GSM_B
    "CRC-8/HITAG" CRC_8_HITAG
    "CRC-8/I-432-1" CRC_8_I_432_1
    "CRC-8/I-CODE" CRC_8_I_CODE
    "CRC-8/LTE" CRC_8_LTE
    "CRC-8/MAXIM-DOW" CRC_8_MAXIM_DOW
    "CRC-8/MIFARE-MAD" CRC_8_MIFARE_MAD
    "CRC-8/NRSC-5" CRC_8_NRSC_5
    "CRC-8/OPENSAFETY" CRC_8_OPENSAFETY
    "CRC-8/ROHC" CRC_8_ROHC
    "CRC-8/SAE-J1850" CRC_8_SAE_J1850
    "CRC-8/SMBUS" CRC_8_SMBUS
    "CRC-8/TECH-3250" CRC_8_TECH_3250
    "CRC-8/WCDMA" CRC_8_WCDMA
};

static BITS_16: [Entry; 45] = parameters! { u16:
    "CRC-10/ATM" CRC_10_ATM
    "CRC-10/CDMA2000" CRC_10_CDMA2000
    "CRC-10/GSM" CRC_10_GSM
    "CRC-11/FLEXRAY" CRC_11_FLEXRAY
    "CRC-11/UMTS" CRC_11_UMTS
    "CRC-12/CDMA2000" CRC_12_CDMA2000
    "CRC-12/DECT" CRC_12_DECT
    "CRC-12/GSM" CRC_12_GSM
    "CRC-12/UMTS" CRC_12_UMTS
    "CRC-13/BBC" CRC_13_BBC
    "CRC-14/DARC" CRC_14_DARC
    "CRC-14/GSM" CRC_14_GSM
    "CRC-15/CAN" CRC_15_CAN
    "CRC-15/MPT1327" CRC_15_MPT1327
    "CRC-16/ARC" CRC_16_ARC
    "CRC-16/CDMA2000" CRC_16_CDMA2000
    "CRC-16/CMS" CRC_16_CMS
    "CRC-16/DDS-110" CRC_16_DDS_110
    "CRC-16/DECT-R" CRC_16_DECT_R
    "CRC-16/DECT-X" CRC_16_DECT_X
    "CRC-16/DNP" CRC_16_DNP
    "CRC-16/EN-13757" CRC_16_EN_13757
    "CRC-16/GENIBUS" CRC_16_GENIBUS
    "CRC-16/GSM" CRC_16_GSM
    "CRC-16/IBM-3740" CRC_16_IBM_3740
    "CRC-16/IBM-SDLC" CRC_16_IBM_SDLC
    "CRC-16/ISO-IEC-14443-3-A" CRC_16_ISO_IEC_14443_3_A
    "CRC-16/KERMIT" CRC_16_KERMIT
    "CRC-16/LJ1200" CRC_16_LJ1200
    "CRC-16/M17" CRC_16_M17
    "CRC-16/MAXIM-DOW" CRC_16_MAXIM_DOW
    "CRC-16/MCRF4XX" CRC_16_MCRF4XX
    "CRC-16/MODBUS" CRC_16_MODBUS
    "CRC-16/NRSC-5" CRC_16_NRSC_5
    "CRC-16/OPENSAFETY-A" CRC_16_OPENSAFETY_A
    "CRC-16/OPENSAFETY-B" CRC_16_OPENSAFETY_B
    "CRC-16/PROFIBUS" CRC_16_PROFIBUS
    "CRC-16/RIELLO" CRC_16_RIELLO
    "CRC-16/SPI-FUJITSU" CRC_16_SPI_FUJITSU
    "CRC-16/T10-DIF" CRC_16_T10_DIF
    "CRC-16/TELEDISK" CRC_16_TELEDISK
    "CRC-16/TMS37157" CRC_16_TMS37157
    "CRC-16/UMTS" CRC_16_UMTS
    "CRC-16/USB" CRC_16_USB
    "CRC-16/XMODEM" CRC_16_XMODEM
};

static BITS_32: [Entry; 24] = parameters! { u32:
    "CRC-17/CAN-FD" CRC_17_CAN_FD
    "CRC-21/CAN-FD" CRC_21_CAN_FD
    "CRC-24/BLE" CRC_24_BLE
    "CRC-24/FLEXRAY-A" CRC_24_FLEXRAY_A
    "CRC-24/FLEXRAY-B" CRC_24_FLEXRAY_B
    "CRC-24/INTERLAKEN" CRC_24_INTERLAKEN
    "CRC-24/LTE-A" CRC_24_LTE_A
    "CRC-24/LTE-B" CRC_24_LTE_B
    "CRC-24/OPENPGP" CRC_24_OPENPGP
    "CRC-24/OS-9" CRC_24_OS_9
    "CRC-30/CDMA" CRC_30_CDMA
    "CRC-31/PHILIPS" CRC_31_PHILIPS
    "CRC-32/AIXM" CRC_32_AIXM
    "CRC-32/AUTOSAR" CRC_32_AUTOSAR
    "CRC-32/BASE91-D" CRC_32_BASE91_D
    "CRC-32/BZIP2" CRC_32_BZIP2
    "CRC-32/CD-ROM-EDC" CRC_32_CD_ROM_EDC
    "CRC-32/CKSUM" CRC_32_CKSUM
    "CRC-32/ISCSI" CRC_32_ISCSI
    "CRC-32/ISO-HDLC" CRC_32_ISO_HDLC
    "CRC-32/JAMCRC" CRC_32_JAMCRC
    "CRC-32/MEF" CRC_32_MEF
    "CRC-32/MPEG-2" CRC_32_MPEG_2
    "CRC-32/XFER" CRC_32_XFER
};

static BITS_64: [Entry; 8] = parameters! { u64:
    "CRC-40/GSM" CRC_40_GSM
    "CRC-64/ECMA-182" CRC_64_ECMA_182
    "CRC-64/GO-ISO" CRC_64_GO_ISO
    "CRC-64/MS" CRC_64_MS
    "CRC-64/NVME" CRC_64_NVME
    "CRC-64/REDIS" CRC_64_REDIS
    "CRC-64/WE" CRC_64_WE
    "CRC-64/XZ" CRC_64_XZ
};

static BITS_128: [Entry; 1] = parameters! { u128:
    "CRC-82/DARC" CRC_82_DARC
};

/// Sums by name. Those of Fletcher are as in his paper of 1982, of bytes and of words of 16 bits; that of Adler is RFC 1950's.
pub(super) fn sums() -> impl Iterator<Item = (&'static str, SumParameters)> + Clone {
    let plain = SumParameters::of_bytes;
    let two = |bits, modulus| SumParameters { sums: 2, modulus: Modulus::Number(modulus), ..plain(bits) };
    let words = Integer { signed: false, bytes: 2, order: Order::Little };
    [
        ("SUM-8", plain(8)),
        ("SUM-16", plain(16)),
        ("SUM-32", plain(32)),
        ("XOR-8", SumParameters { is_xor: true, ..plain(8) }),
        ("FLETCHER-16", two(8, 255)),
        ("FLETCHER-32", SumParameters { of: words, ..two(16, 65_535) }),
        ("ADLER-32", SumParameters { initial: [1, 0], ..two(16, 65_521) }),
    ]
    .into_iter()
}

/// All CRCs.
pub(super) fn all() -> impl Iterator<Item = &'static Entry> + Clone {
    BITS_8.iter().chain(&BITS_16).chain(&BITS_32).chain(&BITS_64).chain(&BITS_128)
}
