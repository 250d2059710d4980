using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261126211053_ReplicaLag")]
    public class ReplicaLag : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "replica_lag",
                columns: table => new
                {
                    replica = table.Column<string>(type: "text", nullable: false),
                    from = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    to = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    branch = table.Column<int>(type: "integer", nullable: false),
                    received_lag = table.Column<long>(type: "bigint", nullable: false),
                    applied_lag = table.Column<long>(type: "bigint", nullable: false),
                    least_lag = table.Column<long>(type: "bigint", nullable: false),
                    pending_bytes = table.Column<long>(type: "bigint", nullable: false),
                    received_position = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_replica_lag", x => new { x.replica, x.from });
                });

            migrationBuilder.CreateIndex(
                name: "ix_replica_lag_to",
                table: "replica_lag",
                column: "to");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "replica_lag");
        }
    }
}
