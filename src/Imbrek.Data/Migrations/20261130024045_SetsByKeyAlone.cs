using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261130024045_SetsByKeyAlone")]
    public class SetsByKeyAlone : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "ix_backup_sets_database_covers_to_id",
                table: "backup_sets");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateIndex(
                name: "ix_backup_sets_database_covers_to_id",
                table: "backup_sets",
                columns: new[] { "database", "covers_to", "id" });
        }
    }
}
