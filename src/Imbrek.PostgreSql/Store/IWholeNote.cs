using Imbrek.Core.Catalogue;

namespace Imbrek.PostgreSql.Store;

/// <summary>What is kept beside a full or an export in the folder that holds all of it.</summary>
internal interface IWholeNote
{
    /// <summary>What it is.</summary>
    SetKind Kind { get; }

    /// <summary>The run that took it.</summary>
    Guid Run { get; }

    /// <summary>Its name.</summary>
    string Set { get; }

    /// <summary>The timeline it was taken on.</summary>
    int Timeline { get; }

    /// <summary>The position of the log that it stands at.</summary>
    long Position { get; }

    /// <summary>The instant it is as of.</summary>
    string CoversTo { get; }

    /// <summary>When it was there.</summary>
    string FinishedAt { get; }

    /// <summary>Bytes of the cluster.</summary>
    long DataBytes { get; }

    /// <summary>Bytes of its files.</summary>
    long StoredBytes { get; }

    /// <summary>Seconds it took.</summary>
    double Seconds { get; }

    /// <summary>Writes it beside its files, whole or not at all.</summary>
    Task WriteAsync(string folder, CancellationToken cancel);
}
