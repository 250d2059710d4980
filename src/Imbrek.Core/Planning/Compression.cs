namespace Imbrek.Core.Planning;

/// <summary>How hard a backup is compressed.</summary>
public enum Compression
{
    /// <summary>Not at all: all bytes travel, no processor is used.</summary>
    Off,

    /// <summary>To two fifths, at little cost.</summary>
    Light,

    /// <summary>To three tenths, at a high cost of processor.</summary>
    Strong,
}

/// <summary>What compression does, until runs have taught better.</summary>
public static class CompressionEffect
{
    /// <summary>Stored bytes over data bytes.</summary>
    public static double Ratio(this Compression compression) => compression switch
    {
        Compression.Off => 1,
        Compression.Light => 0.4,
        _ => 0.3,
    };

    /// <summary>Seconds of one processor for a byte of data.</summary>
    public static double ProcessorSecondsPerByte(this Compression compression) => compression switch
    {
        Compression.Off => 0,
        Compression.Light => 1 / 900e6,
        _ => 1 / 160e6,
    };
}
